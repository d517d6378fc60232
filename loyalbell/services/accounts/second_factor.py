"""The second factor: six digits from an app (TOTP, RFC 6238; ``pyotp``), or one of ten recovery codes."""

import hmac
import secrets
import time
from collections.abc import Callable

import pyotp
import segno

from loyalbell.services.accounts import passwords
from loyalbell.services.accounts.people import PeopleProblem
from loyalbell.services.accounts.sessions import digest, end_sessions
from loyalbell.services.application import Application
from loyalbell.storage.schema import User
from loyalbell.storage.secret_box import KeyLost

STEP = 30
"""Seconds that a code holds (RFC 6238, its default)."""
AROUND = 1
"""Steps before and after in which a code is still taken: clocks differ (RFC 6238, section 5.2)."""
SECRET_LENGTH = 32
RECOVERY_CODES = 10
SIGNS = "23456789abcdefghjkmnpqrstuvwxyz"
"""Of recovery codes: none that is mistaken for another."""


def new_secret() -> str:
    return pyotp.random_base32(SECRET_LENGTH)


def picture(secret: str, email: str, shop: str) -> str:
    """What the app scans, as an SVG to put into a page."""
    address = pyotp.TOTP(secret).provisioning_uri(name=email, issuer_name=f"Loyal Bell, {shop}")
    return segno.make(address, error="m").svg_inline(scale=4, border=2, omitsize=False)


def is_on(application: Application, user_id: int) -> bool:
    user = application.find(User, user_id)
    return user is not None and bool(user.second_factor)


def switch_on(
    application: Application,
    user_id: int,
    secret: str,
    code: str,
    session_id: int,
    clock: Callable[[], float] = time.time,
) -> list[str]:
    """Where ``code`` is right for ``secret``; returns the recovery codes, which are shown only now. Raises
    ``PeopleProblem``.
    """
    step = _step_of(secret, code, 0, clock())
    if step is None:
        raise PeopleProblem("This code does not fit. Look at the app for the newest one.")
    codes = ["-".join(_some(4) for _ in range(3)) for _ in range(RECOVERY_CODES)]
    with application.database.transaction() as session:
        user = session.get_one(User, user_id)
        user.second_factor, user.last_code = application.secrets.seal(secret), step
        user.recovery = [digest(_plain(one)) for one in codes]
        end_sessions(session, user_id, but=session_id)
        application.note(session, user.name, "switched the second factor on")
    return codes


def switch_off(application: Application, user_id: int, password: str) -> None:
    """Raises ``PeopleProblem``."""
    user = application.find(User, user_id)
    if user is None or not passwords.holds(user.password_hash, password):
        raise PeopleProblem("The password is not right.")
    remove(application, user_id, user.name)


def remove(application: Application, user_id: int, by: str) -> None:
    with application.database.transaction() as session:
        user = session.get_one(User, user_id)
        user.second_factor, user.recovery, user.last_code = "", [], 0
        application.note(session, by, "switched the second factor off", name=user.name)


def passes(application: Application, user_id: int, code: str, clock: Callable[[], float] = time.time) -> bool:
    """Whether it is a code of now or an unused recovery code; neither is taken twice. Where the key file is
    lost, recovery codes do still.
    """
    with application.database.transaction() as session:
        user = session.get_one(User, user_id)
        try:
            secret = application.secrets.open(user.second_factor)
            step = _step_of(secret, code, user.last_code, clock())
        except KeyLost:
            step = None
        if step is not None:
            user.last_code = step
            return True
        spent = digest(_plain(code))
        if spent not in user.recovery:
            return False
        user.recovery = [one for one in user.recovery if one != spent]
        application.note(session, user.name, "used a recovery code", left=len(user.recovery))
        return True


def _step_of(secret: str, code: str, after: int, now: float) -> int | None:
    """The step whose code it is, later than ``after``; all are compared, whichever fits."""
    digits, totp = code.replace(" ", ""), pyotp.TOTP(secret)
    fits = [
        step
        for step in range(int(now) // STEP - AROUND, int(now) // STEP + AROUND + 1)
        if hmac.compare_digest(totp.generate_otp(step).encode(), digits.encode("utf-8", "replace"))
        and step > after
    ]
    return fits[0] if fits else None


def _some(count: int) -> str:
    return "".join(secrets.choice(SIGNS) for _ in range(count))


def _plain(code: str) -> str:
    return code.lower().replace("-", "").replace(" ", "")


def is_secret(text: str) -> bool:
    """Whether it is written as one that was made here: 32 signs of base 32 (RFC 4648)."""
    return len(text) == SECRET_LENGTH and set(text) <= set("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567")
