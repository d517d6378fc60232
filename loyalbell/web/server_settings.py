"""How the program is served: from the command line, else the environment, else a TOML file, else as here."""

import os
import re
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError, field_validator
from pydantic_settings import (
    BaseSettings,
    PydanticBaseSettingsSource,
    SettingsConfigDict,
    TomlConfigSettingsSource,
)

from loyalbell.channels.loopback import LOOPBACK

PREFIX = "LOYALBELL_"
CONFIG = PREFIX + "CONFIG"
_BASE_PATH = re.compile(r"(/[A-Za-z0-9._~-]+)+")


class SettingsProblem(ValueError):
    """A setting that cannot be used; the words say which, and how it should be."""


class ServerSettings(BaseSettings):
    """Each may stand in the environment as ``LOYALBELL_`` and its name in capitals, or in a TOML file.

    ``host``: the address of this machine that pages are served at; the usual one is reached from this machine
    alone. ``base_path``: under which path a proxy hands us on, such as ``/bell``. ``behind_proxy``: addresses
    of proxies whose word about who asks, and by https, is believed; with commas between, or ``*``.
    ``mail_host`` and ``mail_port``: where answers and delivery reports come in by SMTP; port 0 for nowhere.
    ``metrics_token``: whoever brings it may read /metrics from elsewhere; without one only this machine may.
    """

    model_config = SettingsConfigDict(env_prefix=PREFIX, extra="forbid")
    data: Path = Path("data")
    host: str = LOOPBACK
    port: int = Field(default=8000, ge=1, le=65_535)
    base_path: str = ""
    behind_proxy: str = ""
    mail_host: str = LOOPBACK
    mail_port: int = Field(default=0, ge=0, le=65_535)
    metrics_token: str = ""
    log_level: Literal["debug", "info", "warning", "error"] = "info"
    log_form: Literal["words", "json"] = "words"
    log_file: Path | None = None

    @field_validator("base_path")
    @classmethod
    def _as_prefix(cls, given: str) -> str:
        path = given.rstrip("/")
        if path and not _BASE_PATH.fullmatch(path):
            raise ValueError("write it as /bell, without a host")
        return path

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        path = os.environ.get(CONFIG)
        toml = (TomlConfigSettingsSource(settings_cls, path),) if path else ()
        return (init_settings, env_settings, *toml)


def read_settings(**given: Any) -> ServerSettings:
    """What the command line gives counts, ``None`` being not given. Raises ``SettingsProblem``."""
    path = os.environ.get(CONFIG)
    if path and not Path(path).is_file():
        raise SettingsProblem(f"{CONFIG} names {path}, and there is no such file.")
    try:
        return ServerSettings(**{name: value for name, value in given.items() if value is not None})
    except ValidationError as error:
        first = error.errors()[0]
        name = str(first["loc"][0]) if first["loc"] else "a setting"
        if first["type"] == "extra_forbidden":
            known = ", ".join(ServerSettings.model_fields)
            raise SettingsProblem(f"There is no setting {name}. Known are: {known}.") from error
        said = first["msg"].removeprefix("Value error, ")
        raise SettingsProblem(
            f"The setting {name} ({PREFIX}{name.upper()}) cannot be used: {said}."
        ) from error
    except ValueError as error:
        raise SettingsProblem(f"{path} cannot be read as TOML: {error}.") from error
