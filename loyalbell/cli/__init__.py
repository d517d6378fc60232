"""The command line."""

from loyalbell.cli import message, rhythm, segment, text
from loyalbell.cli.main import app

app.add_typer(rhythm.app, name="rhythm")
app.add_typer(segment.app, name="segment")
app.add_typer(message.app, name="message")
app.add_typer(text.app, name="text")

__all__ = ["app"]
