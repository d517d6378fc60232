"""A receipt of one order, made for the person who gets it: a PDF, through fpdf2.

Where the font that ships with us lacks a letter of it (Chinese, Japanese), it is a text file instead, so that
nothing is left out.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from fontTools.ttLib import TTFont
from fpdf import FPDF
from fpdf.enums import Align, XPos, YPos

from loyalbell.core.messages.mime import MailFile
from loyalbell.services.translations import catalogue, language_for

FONTS = Path(__file__).with_name("fonts")
REGULAR, BOLD = FONTS / "DejaVuSans.ttf", FONTS / "DejaVuSans-Bold.ttf"
FAMILY, MARGIN, ROW = "DejaVu", 18, 7
QUANTITY_WIDTH, AMOUNT_WIDTH = 25, 40
PAGE_OF = {"US": "letter", "CA": "letter", "MX": "letter"}
"""Countries that print on letter paper; the others on A4 (CLDR paperSize, from memory)."""


@dataclass(frozen=True)
class ReceiptLine:
    """One line: ``quantity`` and ``amount`` in words."""

    item: str
    quantity: str
    amount: str


@dataclass(frozen=True)
class Receipt:
    """What stands on it, in words. ``sums`` are (label, amount), the last of them in bold."""

    shop: str
    address: str
    country: str
    number: str
    day: str
    customer: str
    lines: Sequence[ReceiptLine]
    sums: Sequence[tuple[str, str]]
    language: str = ""


def receipt_file(receipt: Receipt) -> MailFile:
    """The file that goes with a mail: ``receipt-R-20931.pdf``."""
    plain = "".join(one for one in receipt.number if one.isascii() and (one.isalnum() or one in "-_"))
    name = f"receipt-{plain or 'order'}"
    text = _as_text(receipt)
    if _shown_by_the_font(text):
        return MailFile(f"{name}.pdf", "application/pdf", _as_pdf(receipt))
    # with its mark, so that every program reads it as UTF-8
    return MailFile(f"{name}.txt", "text/plain", text.encode("utf-8-sig"))


@cache
def _letters() -> frozenset[int]:
    with TTFont(REGULAR, lazy=True) as font:
        return frozenset(font.getBestCmap())


def _shown_by_the_font(text: str) -> bool:
    return all(ord(letter) in _letters() for letter in text if letter != "\n")


def _say(receipt: Receipt, text: str) -> str:
    return catalogue(language_for(receipt.language, "")).get(text, text)


def _as_text(receipt: Receipt) -> str:
    say = _say
    rows = [
        receipt.shop,
        receipt.address,
        "",
        f"{say(receipt, 'Receipt')} {receipt.number}",
        receipt.day,
        receipt.customer,
        "",
        *(f"{line.quantity} × {line.item}: {line.amount}" for line in receipt.lines),
        "",
        *(f"{say(receipt, label)}: {amount}" for label, amount in receipt.sums),
    ]
    return "\n".join(row for row in rows) + "\n"


def _as_pdf(receipt: Receipt) -> bytes:
    page = FPDF(format=PAGE_OF.get(receipt.country, "a4"))
    page.set_margin(MARGIN)
    page.set_auto_page_break(True, MARGIN)
    page.add_font(FAMILY, "", REGULAR)
    page.add_font(FAMILY, "B", BOLD)
    page.set_title(f"{_say(receipt, 'Receipt')} {receipt.number}")
    page.add_page()
    _write(page, receipt.shop, 16, "B")
    _write(page, receipt.address, 9)
    page.ln(ROW)
    _write(page, f"{_say(receipt, 'Receipt')} {receipt.number}", 13, "B")
    _write(page, receipt.day, 10)
    _write(page, receipt.customer, 10)
    page.ln(ROW)
    _row(page, [_say(receipt, one) for one in ("Item", "Quantity", "Amount")], "B")
    for line in receipt.lines:
        _row(page, [line.item, line.quantity, line.amount])
    page.line(MARGIN, page.get_y() + 2, page.w - MARGIN, page.get_y() + 2)
    page.ln(4)
    for at, (label, amount) in enumerate(receipt.sums, 1):
        _row(page, [_say(receipt, label), "", amount], "B" if at == len(receipt.sums) else "")
    return bytes(page.output())


def _write(page: FPDF, text: str, size: float, style: str = "") -> None:
    if text:
        page.set_font(FAMILY, style, size)
        page.multi_cell(0, size * 0.5, text, align=Align.L, new_x=XPos.LMARGIN, new_y=YPos.NEXT)


def _row(page: FPDF, cells: Sequence[str], style: str = "") -> None:
    """Item, quantity, amount; a long name takes several lines, and the figures stand beside its first."""
    item, quantity, amount = cells
    page.set_font(FAMILY, style, 10)
    width = page.epw - QUANTITY_WIDTH - AMOUNT_WIDTH
    if page.get_y() > page.h - MARGIN - 3 * ROW:
        page.add_page()
    top = page.get_y()
    page.multi_cell(width, ROW, item, align=Align.L, new_x=XPos.RIGHT, new_y=YPos.NEXT)
    end = page.get_y()
    page.set_xy(MARGIN + width, top)
    page.cell(QUANTITY_WIDTH, ROW, quantity, align=Align.R)
    page.cell(AMOUNT_WIDTH, ROW, amount, align=Align.R)
    page.set_xy(MARGIN, end)
