"""What a domain's owner must publish in the DNS so that mail servers believe its mails, and whether a sender
fits together: SPF (RFC 7208), DKIM (RFC 6376) and DMARC (RFC 7489).

Nothing is looked up: the texts are to be copied.
"""

from dataclasses import dataclass
from ipaddress import ip_address

LONGEST_STRING = 255
"""Characters of one string of a TXT record; longer ones are parted (RFC 7208, section 3.3)."""


@dataclass(frozen=True)
class Sender:
    """``return_domain`` takes bounces; ``public_key`` is of DKIM, Base64 of its DER, empty without a key."""

    address: str
    mail_host: str
    return_domain: str = ""
    dkim_domain: str = ""
    dkim_selector: str = ""
    public_key: str = ""

    @property
    def domain(self) -> str:
        return self.address.rpartition("@")[2].lower()


@dataclass(frozen=True)
class DnsRecord:
    """One record to publish. ``why`` says in plain words what it is for."""

    what: str
    name: str
    value: str
    why: str


def records_for(sender: Sender) -> list[DnsRecord]:
    """The records in the order in which they are best set; none without a sender's address."""
    if not sender.domain:
        return []
    bounces = sender.return_domain or sender.domain
    found = [
        DnsRecord(
            "SPF",
            bounces,
            f"v=spf1 {_mechanism(sender.mail_host)} ~all",
            f"Says that your mail server may send for {bounces}. A domain has only one: if there is one"
            f" already, add “{_mechanism(sender.mail_host)}” to it, before “~all” or “-all”.",
        )
    ]
    if sender.public_key and sender.dkim_domain and sender.dkim_selector:
        found.append(
            DnsRecord(
                "DKIM",
                f"{sender.dkim_selector}._domainkey.{sender.dkim_domain}",
                in_strings(f"v=DKIM1; k=rsa; p={sender.public_key}"),
                "Lets mail servers check the signature on each of your mails.",
            )
        )
    found.append(
        DnsRecord(
            "DMARC",
            f"_dmarc.{sender.domain}",
            f"v=DMARC1; p=none; rua=mailto:{sender.address}",
            "Says what to do with mails in your name that are not from you, and where reports go. Begin with"
            " “p=none”, which only reports; change it to “p=quarantine” once the reports are clean.",
        )
    )
    return found


def _mechanism(host: str) -> str:
    try:
        address = ip_address(host)
    except ValueError:
        return f"a:{host}"
    return f"ip{address.version}:{address}"


def in_strings(value: str) -> str:
    """A long value as the several quoted strings that it must be parted into; a short one as it is."""
    if len(value) <= LONGEST_STRING:
        return value
    parts = [value[at : at + LONGEST_STRING] for at in range(0, len(value), LONGEST_STRING)]
    return " ".join(f'"{part}"' for part in parts)


def aligned(one: str, other: str) -> bool:
    """Whether two domains count as one sender (relaxed alignment): the same, or one below the other.

    RFC 7489 asks for the same organisational domain, which needs the public suffix list; two different names
    below one domain are taken as not aligned here, to be on the safe side.
    """
    one, other = one.lower().strip("."), other.lower().strip(".")
    return bool(one and other) and (one == other or one.endswith(f".{other}") or other.endswith(f".{one}"))


def alignment(sender: Sender) -> tuple[bool, list[str]]:
    """Whether sender, bounces and signature all belong together, and what to know, in sentences."""
    if not sender.domain:
        return False, ["There is no sender’s address yet. Give one in Settings."]
    said: list[str] = []
    bounces = sender.return_domain or sender.domain
    by_spf = aligned(bounces, sender.domain)
    if not by_spf:
        said.append(
            f"Bounces go to {bounces}, but mails are from {sender.domain}: SPF will not count. Use a domain"
            f" below {sender.domain}, such as replies.{sender.domain}."
        )
    by_dkim = bool(sender.public_key) and aligned(sender.dkim_domain, sender.domain)
    if not sender.public_key:
        said.append("Mails are not signed. Make a DKIM key: large mail providers ask for one.")
    elif not by_dkim:
        said.append(
            f"Mails are signed for {sender.dkim_domain or 'no domain'}, but are from {sender.domain}: the"
            f" signature will not count. Sign for {sender.domain}."
        )
    if by_spf and by_dkim:
        said.append(f"Sender, bounces and signature belong together under {sender.domain}.")
    return by_spf and by_dkim, said
