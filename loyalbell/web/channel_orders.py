"""In which order channels can be tried, in words."""

ORDERS = (
    ("email", "by email"),
    ("text email", "by text if they agreed to it, else by email"),
    ("email text", "by email, else by text"),
    ("chat text email", "by chat, else by text, else by email"),
    ("text", "by text"),
    ("chat", "by chat"),
)
