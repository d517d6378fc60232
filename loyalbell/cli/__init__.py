"""The command line."""

from loyalbell.cli import account, backup, init, message, results, rhythm, segment, sequence, text
from loyalbell.cli.main import app

app.add_typer(account.app, name="account")
app.add_typer(rhythm.app, name="rhythm")
app.add_typer(segment.app, name="segment")
app.add_typer(message.app, name="message")
app.add_typer(text.app, name="text")
app.add_typer(sequence.app, name="sequence")
app.command("init")(init.init)
app.command("backup")(backup.backup)
app.command("verify")(backup.verify)
app.command("restore")(backup.restore)
app.command("results")(results.results)
app.command("pace")(sequence.pace)

__all__ = ["app"]
