"""Purchases of before this book in what is measured of orders: only as far as their sum tells."""

from typing import Any

import numpy as np

from loyalbell.core.history.before import Before
from loyalbell.core.history.columns import NEVER, Ints, Mask
from loyalbell.core.history.visits import local_days
from loyalbell.core.segments.conditions.measuring import Measured
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Ever


def with_sums(line: Any, context: EvaluationContext, found: Measured, sums: Before) -> Measured:
    """Adds to what the orders come to what the sums say. Of a period they tell that the last purchase lies in
    it; their number and money count where all of it does.
    """
    last_in = _inside(line, context, sums.last) & sums.holds
    whole = last_in & (isinstance(line.period, Ever) | _inside(line, context, sums.first))
    orders = np.where(whole, sums.orders, last_in.astype(np.int64))
    if line.measure == "count":
        return Measured(found.values + orders, found.has, found.scale)
    if line.measure == "days":
        return Measured(found.values + last_in, found.has, found.scale)
    money = np.where(whole, sums.money, 0)
    if line.measure == "sum":
        return Measured(found.values + money, found.has, found.scale)
    if line.measure == "average":
        counted = found.scale + np.where(whole, sums.orders, 0)
        return Measured(found.values + money, counted > 0, counted)
    return _days_ago(line, context, found, sums, last_in)


def _inside(line: Any, context: EvaluationContext, at: Ints) -> Mask:
    low, high = context.span(line.period)
    mask = (at >= low) & (at <= high)
    everybody = np.arange(context.size, dtype=np.int32)
    theirs = context.inside(line.period, everybody, at)
    return mask if theirs is None else mask & theirs


def _days_ago(
    line: Any, context: EvaluationContext, found: Measured, sums: Before, last_in: Mask
) -> Measured:
    """The last purchase is the later of both. The first is the sum's, and not known where it does not say."""
    has = np.zeros(context.size, dtype=np.bool_) if found.has is None else found.has
    at = sums.last if line.measure == "last" else sums.first
    known = last_in & (at < NEVER) & _inside(line, context, at)
    ago = np.zeros(context.size, dtype=np.int64)
    ago[known] = context.today - local_days(at[known], context.snapshot.zone)
    if line.measure == "last":
        nearer = known & (~has | (ago < found.values))
        return Measured(np.where(nearer, ago, found.values), has | known)
    if isinstance(line.period, Ever):
        return Measured(np.where(sums.holds, ago, found.values), np.where(sums.holds, known, has))
    return Measured(np.where(known, ago, found.values), has | known)
