"""``loyalbell init``: a new book from the command line, for whoever sets up more than one or none by hand."""

import os
import secrets
import sys
from pathlib import Path

import typer

from loyalbell.channels.loopback import LOOPBACK
from loyalbell.cli.main import DataOption, fail, out
from loyalbell.services.application import Application
from loyalbell.services.settings.shop import NotSetUp, ShopForm, check, open_shop
from loyalbell.storage.database import BOOK_FILE
from loyalbell.storage.opening import BookProblem

PASSWORD = "LOYALBELL_PASSWORD"  # noqa: S105


def init(
    data: Path = DataOption,
    name: str = typer.Option(..., help="The shop’s name."),
    zone: str = typer.Option(..., help="Its time zone, such as Europe/London."),
    currency: str = typer.Option(..., help="Its currency, such as GBP."),
    country: str = typer.Option(..., help="Its country in two letters, such as GB."),
    email: str = typer.Option(..., help="The owner’s email, to sign in with."),
    owner: str = typer.Option("Owner", help="The owner’s name."),
    public_url: str = typer.Option(f"http://{LOOPBACK}:8000", help="Under which address customers reach it."),
) -> None:
    """Opens a new book. The password is asked for, or taken from LOYALBELL_PASSWORD, or made and printed."""
    if (data / BOOK_FILE).exists():
        raise fail(f"There is a book in {data} already. Choose another folder with --data.")
    form = ShopForm(name, zone, currency.upper(), country.upper(), "", public_url, name, "", "", 25)
    password, is_made = given_password()
    try:
        check(form)
        application = Application(data)
    except (NotSetUp, BookProblem) as problem:
        raise fail(str(problem)) from problem
    try:
        open_shop(application, form, owner, email, password)
    except NotSetUp as problem:
        application.close()
        # a book without a shop would look like a first day half done
        (data / BOOK_FILE).unlink()
        raise fail(str(problem)) from problem
    application.close()
    out.print(f"{data}: a book for {name}. Sign in as {email}.", soft_wrap=True, markup=False)
    if is_made:
        out.print(f"The password, which is shown only now: {password}", markup=False)
    out.print(f"Start it with: loyalbell serve --data {data}", soft_wrap=True, markup=False)


def given_password() -> tuple[str, bool]:
    """From LOYALBELL_PASSWORD, asked for, or made; and whether it was made here."""
    given = os.environ.get(PASSWORD)
    if given:
        return given, False
    if sys.stdin.isatty():
        return str(typer.prompt("Password", hide_input=True, confirmation_prompt=True)), False
    return secrets.token_urlsafe(12), True
