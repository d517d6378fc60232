"""The tables of the book, one module an area."""

from loyalbell.store.tables.base import Base, Instant
from loyalbell.store.tables.history import Department, Item, Order, OrderLine
from loyalbell.store.tables.imports import ImportRun
from loyalbell.store.tables.messages import Letterhead, Message, MessageVersion, Segment
from loyalbell.store.tables.people import Companion, ConsentEntry, ExternalId, Person, Suppression
from loyalbell.store.tables.running import BookVersion, ClockSetting, LogEntry, Session, Shop, TickLock, User
from loyalbell.store.tables.sending import Campaign, Touch, TouchEvent

__all__ = [
    "Base",
    "BookVersion",
    "Campaign",
    "ClockSetting",
    "Companion",
    "ConsentEntry",
    "Department",
    "ExternalId",
    "ImportRun",
    "Instant",
    "Item",
    "Letterhead",
    "LogEntry",
    "Message",
    "MessageVersion",
    "Order",
    "OrderLine",
    "Person",
    "Segment",
    "Session",
    "Shop",
    "Suppression",
    "TickLock",
    "Touch",
    "TouchEvent",
    "User",
]
