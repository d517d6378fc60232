"""``loyalbell account``: for who is locked out. Whoever may write the book may do what an owner may."""

from pathlib import Path

import typer

from loyalbell.cli.init import given_password
from loyalbell.cli.main import DataOption, fail, open_book, out
from loyalbell.services.accounts import people, second_factor
from loyalbell.services.accounts.passwords import WeakPassword
from loyalbell.services.accounts.permissions import Role
from loyalbell.services.application import Application
from loyalbell.storage.schema import User

app = typer.Typer(no_args_is_help=True, help="Who may sign in, for who is locked out.")
BY = "the command line"
EmailArgument = typer.Argument(help="The email that the person signs in with.")


def _user(application: Application, email: str) -> User:
    user = people.by_email(application, email)
    if user is None:
        application.close()
        raise fail(f"Nobody signs in as {email}. “loyalbell account list” names everybody.")
    return user


@app.command("list")
def list_people(data: Path = DataOption) -> None:
    """Everybody, with role and whether they can sign in."""
    application = open_book(data)
    for one in people.everyone(application):
        state = "ended" if one.ended_at else "can sign in" if one.password_hash else "invited"
        factor = ", second factor" if one.second_factor else ""
        out.print(f"{one.email}: {one.name}, {one.role}, {state}{factor}", soft_wrap=True, markup=False)
    application.close()


@app.command()
def password(email: str = EmailArgument, data: Path = DataOption) -> None:
    """A new password: asked for, or taken from LOYALBELL_PASSWORD, or made and printed. Gives access back to
    who had lost it, and signs them out everywhere.
    """
    application = open_book(data)
    user = _user(application, email)
    new, is_made = given_password()
    try:
        people.give_password(application, user.id, new, BY)
    except WeakPassword as problem:
        application.close()
        raise fail(str(problem)) from problem
    application.close()
    out.print(f"{user.email} has a new password.", soft_wrap=True, markup=False)
    if is_made:
        out.print(f"It is shown only now: {new}", soft_wrap=True, markup=False)


@app.command("second-factor")
def lift_second_factor(email: str = EmailArgument, data: Path = DataOption) -> None:
    """Switches the second factor off, for who has lost the phone and the recovery codes."""
    application = open_book(data)
    user = _user(application, email)
    second_factor.remove(application, user.id, BY)
    application.close()
    out.print(f"{user.email} signs in with the password alone.", soft_wrap=True, markup=False)


@app.command()
def owner(email: str = EmailArgument, data: Path = DataOption) -> None:
    """Makes somebody an owner, where the last one is gone."""
    application = open_book(data)
    user = _user(application, email)
    if user.ended_at is not None:
        application.close()
        raise fail(f"The access of {email} has ended. Give a password first: loyalbell account password.")
    people.change(application, user.id, Role.OWNER, (), BY)
    application.close()
    out.print(f"{user.email} is an owner.", soft_wrap=True, markup=False)
