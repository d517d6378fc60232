from loyalbell.cli import app

app(prog_name="loyalbell")
