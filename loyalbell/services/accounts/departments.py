"""People bound to departments change the sequences of those, and no others."""

import re
from collections.abc import Sequence as Many

from loyalbell.services.application import Application
from loyalbell.storage.schema import Enrolment, HeldBatch, Sequence

OF_SEQUENCE = re.compile(r"/sequences/(\d+)/(?!copy|rehearsal)\w.*")
OF_ALL = "/sequences/order"
OF_ENROLMENT, OF_HELD = re.compile(r"/enrolments/(\d+)/move"), re.compile(r"/held/(\d+)")


def is_out_of_bounds(application: Application, departments: Many[int], path: str) -> bool:
    """Whether a change at ``path`` is to a sequence of another department, of the whole shop, or to the order
    of them all.
    """
    if not departments:
        return False
    if path == OF_ALL:
        return True
    number = _sequence_at(application, path)
    return number is not None and not may_change(application, departments, number)


def may_change(application: Application, departments: Many[int], sequence_id: int) -> bool:
    if not departments:
        return True
    sequence = application.find(Sequence, sequence_id)
    return sequence is None or sequence.department_id in departments


def _sequence_at(application: Application, path: str) -> int | None:
    if found := OF_SEQUENCE.fullmatch(path):
        return int(found[1])
    if found := OF_ENROLMENT.fullmatch(path):
        enrolment = application.find(Enrolment, int(found[1]))
        return enrolment.sequence_id if enrolment else None
    if found := OF_HELD.fullmatch(path):
        batch = application.find(HeldBatch, int(found[1]))
        return batch.origin_id if batch and batch.origin_kind == "sequence" else None
    return None
