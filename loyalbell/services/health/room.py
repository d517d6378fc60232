"""Whether there is room on the disk: sending stops before the book could no longer record what was sent."""

import shutil

from loyalbell.services.application import Application

TOPIC = "room"
LEAST, PER_BOOK = 64 * 1024 * 1024, 0.05
"""Bytes that must be free for messages to leave: so many, and a twentieth of the book."""


def free_bytes(application: Application) -> int:
    return shutil.disk_usage(application.data).free


def least_bytes(application: Application) -> int:
    return LEAST + int(PER_BOOK * application.database.path.stat().st_size)


def is_room(application: Application) -> bool:
    """Asked before anything leaves; what it finds stands on Today."""
    free, least = free_bytes(application), least_bytes(application)
    if free >= least:
        application.troubles.pop(TOPIC, None)
        return True
    application.troubles[TOPIC] = (
        f"Only {megabytes(free)} are free on the disk with your data. Nothing is sent until there are"
        f" {megabytes(least)}: what is sent could not be written down, and might be sent again. Make room,"
        " and sending goes on by itself."
    )
    return False


def megabytes(size: int) -> str:
    """``12 MB``, ``0.7 MB``, ``25.0 GB``."""
    if size < 10**9:
        return f"{size / 10**6:,.0f} MB" if size >= 10**7 else f"{size / 10**6:,.1f} MB"
    return f"{size / 10**9:,.1f} GB"
