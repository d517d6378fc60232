"""Who works with the book: inviting, roles, departments, ending access. Somebody always stays the owner."""

from collections.abc import Sequence

from email_validator import EmailNotValidError, validate_email
from sqlalchemy import func, select

from loyalbell.channels.sender import Sender
from loyalbell.services.accounts import account_links, passwords, sessions
from loyalbell.services.accounts.account_links import Invited
from loyalbell.services.accounts.permissions import ROLES, Role
from loyalbell.services.accounts.sessions import real_now
from loyalbell.services.application import Application, UnitOfWork
from loyalbell.storage.schema import Department, User

LONGEST_NAME = 80


class PeopleProblem(Exception):
    """Why it cannot be done, in words. Nothing was changed."""


def everyone(application: Application) -> list[User]:
    """Those with access or an invitation by name, then those whose access has ended."""
    with application.database.reading() as session:
        return list(session.scalars(select(User).order_by(User.ended_at.is_not(None), func.lower(User.name))))


def invite(
    application: Application,
    sender: Sender,
    name: str,
    email: str,
    role: str,
    departments: Sequence[int],
    by: str,
) -> Invited:
    """Raises ``PeopleProblem``."""
    said = " ".join(name.split())
    if not said or len(said) > LONGEST_NAME:
        raise PeopleProblem(f"Give a name of at most {LONGEST_NAME} characters.")
    address = _email(email)
    with application.database.transaction() as session:
        user = session.scalar(select(User).where(User.email == address))
        if user is not None and user.ended_at is None:
            raise PeopleProblem(f"{address} is {user.name}, who has access already.")
        if user is None:
            user = User(name=said, email=address, password_hash="", role="", invited_at=real_now())
            session.add(user)
        user.name, user.ended_at, user.invited_at, user.password_hash = said, None, real_now(), ""
        user.second_factor, user.recovery = "", []
        _settle(session, user, role, departments)
        session.flush()
        token = account_links.make(session, user, account_links.INVITE)
        application.note(session, by, "invited a person", name=said, email=address, role=role)
    return account_links.mail_link(application, sender, user, account_links.INVITE, token, by)


def invite_again(application: Application, sender: Sender, user_id: int, by: str) -> Invited:
    """A new link; the old one ends. Raises ``PeopleProblem``."""
    with application.database.transaction() as session:
        user = _active(session, user_id)
        purpose = account_links.RESET if user.password_hash else account_links.INVITE
        token = account_links.make(session, user, purpose)
        application.note(session, by, "sent a link for a password", name=user.name)
    return account_links.mail_link(application, sender, user, purpose, token, by)


def change(application: Application, user_id: int, role: str, departments: Sequence[int], by: str) -> None:
    """Holds from the person's next click. Raises ``PeopleProblem``."""
    with application.database.transaction() as session:
        user = _active(session, user_id)
        before = _say(session, user)
        if user.role == Role.OWNER and role != Role.OWNER:
            _another_owner(session, user)
        _settle(session, user, role, departments)
        application.note(
            session, by, "changed a person’s role", name=user.name, before=before, after=_say(session, user)
        )


def end_access(application: Application, user_id: int, by: str) -> None:
    """Signs the person out everywhere and lets nobody in as them. Raises ``PeopleProblem``."""
    with application.database.transaction() as session:
        user = _active(session, user_id)
        if user.role == Role.OWNER:
            _another_owner(session, user)
        user.ended_at, user.password_hash, user.second_factor, user.recovery = real_now(), "", "", []
        sessions.end_sessions(session, user.id)
        application.note(session, by, "ended a person’s access", name=user.name)


def by_email(application: Application, email: str) -> User | None:
    """Also one whose access has ended."""
    with application.database.reading() as session:
        return session.scalar(select(User).where(User.email == email.strip().lower()))


def give_password(application: Application, user_id: int, password: str, by: str) -> None:
    """By whoever holds the book: gives access back to who had lost it. Raises ``WeakPassword``."""
    with application.database.transaction() as session:
        user = session.get_one(User, user_id)
        passwords.check_strength(password, (user.name, user.email))
        user.password_hash, user.ended_at = passwords.hash_password(password), None
        sessions.end_sessions(session, user_id)
        application.note(session, by, "gave a person a new password", name=user.name)


def change_password(application: Application, user_id: int, old: str, new: str, session_id: int) -> None:
    """Signs out everywhere else. Raises ``PeopleProblem``, ``WeakPassword``."""
    user = application.find(User, user_id)
    if user is None or not passwords.holds(user.password_hash, old):
        raise PeopleProblem("The old password is not right.")
    passwords.check_strength(new, (user.name, user.email, application.the_shop().name))
    with application.database.transaction() as session:
        session.get_one(User, user_id).password_hash = passwords.hash_password(new)
        sessions.end_sessions(session, user_id, but=session_id)
        application.note(session, user.name, "changed the own password")


def _email(text: str) -> str:
    try:
        return str(validate_email(text.strip(), check_deliverability=False).normalized).lower()
    except EmailNotValidError as problem:
        raise PeopleProblem(f"“{text[:80]}” is not an email address: {problem}") from problem


def _active(session: UnitOfWork, user_id: int) -> User:
    user = session.get(User, user_id)
    if user is None or user.ended_at is not None:
        raise PeopleProblem("This person has no access any more. Invite them again.")
    return user


def _settle(session: UnitOfWork, user: User, role: str, departments: Sequence[int]) -> None:
    if role not in ROLES:
        raise PeopleProblem(f"Choose a role: {', '.join(ROLES)}.")
    known = set(session.scalars(select(Department.id)))
    if set(departments) - known:
        raise PeopleProblem("A department that was chosen is no longer on file.")
    if departments and role == Role.OWNER:
        raise PeopleProblem("An owner is not bound to departments.")
    user.role, user.departments = role, sorted(departments)


def _say(session: UnitOfWork, user: User) -> str:
    names = session.scalars(select(Department.name).where(Department.id.in_(user.departments)))
    return ", ".join([user.role, *names])


def _another_owner(session: UnitOfWork, user: User) -> None:
    others = select(User.id).where(
        User.role == Role.OWNER, User.id != user.id, User.ended_at.is_(None), User.password_hash != ""
    )
    if session.scalar(others.limit(1)) is None:
        raise PeopleProblem(
            f"{user.name} is the only owner who can sign in. Make somebody else an owner first."
        )
