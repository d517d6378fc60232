"""The command line."""

from loyalbell.cli import rhythm, segment
from loyalbell.cli.main import app

app.add_typer(rhythm.app, name="rhythm")
app.add_typer(segment.app, name="segment")

__all__ = ["app"]
