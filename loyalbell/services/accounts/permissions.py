"""Who may do what: one table of roles and permissions. The pages ask it at one gate
(``web/permissions.py``); the guide prints it.
"""

from enum import StrEnum


class Role(StrEnum):
    OWNER = "owner"
    MARKETER = "marketer"
    FRONT_DESK = "front desk"
    VIEWER = "viewer"


class Permission(StrEnum):
    """Each with the words that the page of permissions and the guide say."""

    OWN = "Sign in and out, own password, the guide"
    FIGURES = "See figures without names: Today, Rhythm, Results, the calendar"
    CUSTOMERS = "Find customers, see their basics and their diary"
    SERVE = "Change a customer’s basics, write notes, ring up and redeem codes at the till"
    REPLIES = "Read and answer replies"
    DETAILS = "See and change all of a customer: permission to write, tags, ids, segments, companions, fields"
    MANY = "Act on many customers at once, merge duplicates"
    IMPORT = "Import files and change the catalogue"
    EXPORT = "Download lists and files about customers"
    WRITE = "Write segments, messages, campaigns, sequences and offers"
    SEND = "Send, publish, pause, stop and release what is held; the master switch"
    ERASE = "Erase customers"
    APPROVE = "Approve what others ask to send"
    SETTINGS = "Settings of the shop, channels, care, other programs and backups"
    PEOPLE = "Invite people, change their roles, end their access"
    LOG = "Read and download the log"


_FRONT_DESK = frozenset({Permission.OWN, Permission.CUSTOMERS, Permission.SERVE, Permission.REPLIES})
_VIEWER = frozenset({Permission.OWN, Permission.FIGURES})
_OWNER_ALONE = frozenset(
    {Permission.ERASE, Permission.APPROVE, Permission.SETTINGS, Permission.PEOPLE, Permission.LOG}
)

MAY: dict[Role, frozenset[Permission]] = {
    Role.OWNER: frozenset(Permission),
    Role.MARKETER: frozenset(Permission) - _OWNER_ALONE,
    Role.FRONT_DESK: _FRONT_DESK,
    Role.VIEWER: _VIEWER,
}

WORDS: dict[Role, str] = {
    Role.OWNER: "may do everything",
    Role.MARKETER: "writes and sends; no settings, no erasing",
    Role.FRONT_DESK: "customers’ basics, notes, till and replies",
    Role.VIEWER: "figures, without names",
}


ROLES = tuple(role.value for role in Role)


def may(role: str | None, permission: Permission) -> bool:
    """A role that is not known may do nothing."""
    return role is not None and role in ROLES and permission in MAY[Role(role)]
