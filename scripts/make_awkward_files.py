"""Makes the awkward files of ``tests/storage/files/awkward``: exports as shops have them, all made up.

Run with xlwt and odfpy beside the project's own packages; they are needed for old spreadsheets only. What each
file should give stands in ``tests/storage/files/test_awkward_files.py``, written by hand.
"""

import io
import sys
from datetime import date, datetime, time
from pathlib import Path

import openpyxl

FOLDER = Path(__file__).parent.parent / "tests/storage/files/awkward"
PEOPLE = "Ann;Pell;ann@example.com\nBo;Lisle;bo@example.org\n"
CARD = "BEGIN:VCARD\nVERSION:{version}\n{lines}\nEND:VCARD\n"
CALENDAR = "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//made up//EN\n{events}END:VCALENDAR\n"

TEXTS: dict[str, str | bytes] = {
    "title-rows.csv": "Corner Tea Room\nCustomers, printed 12/05/2026\n\nFirst name,Last name,Email\nAnn,Pell,"
    "ann@example.com\nBo,Lisle,bo@example.org\n",
    "two-heading-rows.csv": "Customer,,Contact,,Consent,\nFirst,Last,Email,Mobile,Email,SMS\nAnn,Pell,"
    "ann@example.com,(212) 555-0100,yes,no\nBo,Lisle,bo@example.org,,no,no\n",
    "units-below-headings.csv": "Receipt;Date;Customer id;Total\n;(dd.mm.yyyy);;(in EUR)\nR1;31.12.2025;C1;"
    "1.234,50\nR2;02.01.2026;C2;10\n",
    "separator-line.csv": "sep=;\r\nFirst name;Last name;Email\r\nAnn;Pell;ann@example.com\r\n",
    "duplicate-headings.csv": "First name,Email,Phone,Phone\nAnn,ann@example.com,(212) 555-0100,(212) 555-0101\n",
    "no-headings.csv": "Ann,Pell,ann@example.com,(212) 555-0100\nBo,Lisle,bo@example.org,(212) 555-0101\n",
    "utf-16-without-mark.csv": "First name\tLast name\tEmail\nZoë\tPell\tzoe@example.com\n".encode(
        "utf-16-le"
    ),
    "utf-16-big.csv": "First name,Last name,Email\nZoë,Pell,zoe@example.com\n".encode("utf-16"),
    "shift-jis.csv": (
        "顧客番号,氏名,電話番号,メールアドレス,生年月日,メルマガ\n"
        "1,山田 太郎,090-1234-5678,taro@example.jp,1990年2月28日,はい\n"
        "2,鈴木 花子,080-2345-6789,hana@example.jp,1985/11/03,いいえ\n"
    ).encode("cp932"),
    "windows-western.csv": "Vorname;Nachname;E-Mail;Ort\nJürgen;Groß;juergen@example.de;Köln\n".encode(
        "cp1252"
    ),
    "windows-central.csv": "Imię;First name;Last name;Email\n;Łukasz;Wójcik;lukasz@example.pl\n;Świętosław;Żak;"
    "zak@example.pl\n".encode("cp1250"),
    "cyrillic.csv": "First name;Last name;Email\nАнна;Петрова;anna@example.com\nИван;Сидоров;ivan@example.com\n"
    "Мария;Смирнова;maria@example.com\n".encode("cp1251"),
    "page-as-spreadsheet.xls": "<html><body><table><tr><td>Exported</td></tr></table><table><tr><th>First name"
    "</th><th>Last name</th><th>Email</th></tr><tr><td>Ann</td><td>Pell</td><td>ann@example.com</td></tr>"
    "<tr><td>Bo</td><td>Lisle</td><td>bo@example.org</td></tr></table></body></html>",
    "serial-dates.csv": "Order no,Customer id,Date,Total\nA,C1,46022,12.50\nB,C2,46022.5,3\n",
    "short-months.csv": 'Order no,Customer id,Date,Total\nA,C1,13-May-26,12.50\nB,C2,"May 14, 2026 2:30 PM",3\n',
    "junk-blanks.csv": "id,first name,email,phone,birthday\n1,Ann,n/a,-,00/00/0000\n2,Bo,bo@example.org,unknown,"
    "N/A\n3,Cleo,NULL,(212) 555-0102,--\n",
    "two-emails-in-a-cell.csv": "First name,Email\nAnn,ann@example.com; ann.pell@work.example\nBo,"
    "Bo Lisle <bo@example.org>\n",
    "english-abbreviations.csv": "Cust No.,Name (first last),Mob. / Tel,D.O.B.,SMS ok\nK1,Ann Pell,(212) 555-0100,"
    "24/02/51,yes\nK2,Bo van der Lisle,,13/11/1985,no\n",
    "german.csv": "Kundennr.;Vorname;Name;Mobil;E-Mail;Geburtsdatum;PLZ;Ort;Newsletter;SMS erlaubt;Kunde seit\n"
    "1;Jürgen;Groß;0151 23456789;juergen@example.de;24.02.1951;50667;Köln;ja;nein;03.05.2019\n",
    "spanish.csv": "Nº cliente;Nombre;Apellidos;Móvil;Correo electrónico;Fecha de nacimiento;Ciudad;Acepta publicidad"
    "\n1;Lucía;García López;612 34 56 78;lucia@example.es;3 de mayo de 1990;Sevilla;sí\n",
    "french.csv": "N° client;Prénom;Nom;Portable;Courriel;Date de naissance;Ville;Consentement email\n1;Hélène;"
    "Lefèvre;06 12 34 56 78;helene@example.fr;1er mars 1988;Lyon;oui\n2;Luc;Petit;;luc@example.fr;;Paris;non\n",
    "last-first.csv": 'id,Name\n1,"Pell, Ann"\n2,"van der Lisle, Bo"\n',
    "titles.csv": "id,Full name,Email\n1,Dr. Ann Pell,ann@example.com\n2,Mr. Lisle,bo@example.org\n",
    "short-phones.csv": "id,First name,Mobile\n1,Ann,07700\n2,Bo,000-000-0000\n3,Cleo,07700 900123\n4,Dan,"
    "+44 20 7946 0123\n",
    "one-bad-cell.csv": "id,First name,Email,Birthday\n1,Ann,ann@example.com,31/31/2020\n2,Bo,not an address,"
    "1990-05-12\n",
    "unit-price-and-amount.csv": "Receipt,Date,Time,Cust,Article,Qty,Unit price,Amount\nR1,2026-05-12,09:40,C1,"
    "Green tea,2,10.00,20.00\nR1,2026-05-12,09:40,C1,Scone,3,4.00,12.00\n",
    "price-and-quantity.csv": "Order,Customer id,Date,Item,Quantity,Price\nR1,C1,2026-05-12,Teapot,3,10.00\n",
    "line-discounts.csv": "Order,Customer id,Date,Item,Quantity,Unit price,Line discount\nR1,C1,2026-05-12,Teapot,3,"
    "10.00,5.00\nR1,C1,2026-05-12,Scone,1,2.80,\n",
    "totals-differ.csv": "Order,Customer id,Date,Item,Line total,Order total\nR1,C1,2026-05-12,Teapot,30.00,"
    "28.00\nR1,C1,2026-05-12,Scone,2.80,28.00\nR2,C2,2026-05-12,Scone,2.80,2.80\n",
    "nothing-and-a-half.csv": "Order,Customer id,Date,Item,Quantity,Line total\nR1,C1,2026-05-12,Delivery,0,4.90\nR1,"
    "C1,2026-05-12,Loose tea,0.5,6.00\n",
    "german-till.csv": "Bon-Nr;Datum;Uhrzeit;Kundennr;Artikel;Menge;Einzelpreis;Betrag\nB1;12.05.2026;9:40;C1;"
    "Grüner Tee;2;1.250,00;2.500,00\nB1;12.05.2026;9:40;C1;Gebäck;1,5;4,00;6,00\n",
    "swiss-amounts.csv": "Order no;Customer id;Date;Total\nA;C1;12.05.2026;CHF 1'234.50\nB;C2;12.05.2026;12.–\n",
    "yen.csv": '注文番号,顧客番号,注文日,商品名,数量,単価,金額\nN1,C1,2026年5月12日,緑茶,2,¥1,200,"2,400円"\n'.replace(
        "¥1,200", '"¥1,200"'
    ),
    "orders-without-customers.csv": "Transaction,Sold at,Customer name,Email,Paid\nT1,2026-05-12 09:40,Cleo Marsh,"
    "cleo@example.com,12.50\nT2,2026-05-13 09:40,Cleo Marsh,cleo@example.com,8\nT3,2026-05-14 10:00,Ann Pell,"
    "ann@example.com,5\n",
    "statuses-in-german.csv": "Order no;Customer id;Date;Total;Status\nA;C1;2026-05-12;5;geliefert\nB;C2;2026-05-12;"
    "6;storniert\nC;C2;2026-05-12;7;irgendwas\n",
    "only-a-summary.csv": "id,Email,Last purchase,Orders,Total spent\n1,ann@example.com,2026-03-02,12,$340.50\n2,"
    "bo@example.org,2025-01-15,1,9\n",
    "agreed-on.csv": "id,Email,Newsletter,Opt-in date\n1,ann@example.com,yes,2024-03-02\n2,bo@example.org,no,\n",
    "external-id.csv": "external_id,email\nX1,ann@example.com\n",
    "lines-with-amount.csv": "order_id,item,amount\nO1,Teapot,24.00\nO1,Scone,2.80\n",
    "one-card-is-bad.vcf": CARD.format(
        version="3.0", lines="N:Pell;Ann;;;\nFN:Ann Pell\nEMAIL:ann@example.com"
    )
    + "BEGIN:VCARD\nVERSION:3.0\nthis is no line of a card\nEND:VCARD\n"
    + CARD.format(version="4.0", lines="N:Lisle;Bo;;;\nFN:Bo Lisle\nTEL;TYPE=cell:+12125550101"),
    "old-card.vcf": CARD.format(
        version="2.1",
        lines="N;CHARSET=UTF-8;ENCODING=QUOTED-PRINTABLE:Gro=C3=9F;J=C3=BCrgen;;;\nTEL;CELL:+4915123456789\n"
        "EMAIL;INTERNET:juergen@example.de\nBDAY:19510224",
    ),
    "moved-appointment.ics": CALENDAR.format(
        events="BEGIN:VEVENT\nUID:groom\nDTSTART;TZID=America/New_York:20260504T090000\nDURATION:PT1H\n"
        "RRULE:FREQ=WEEKLY;COUNT=4\nRDATE;TZID=America/New_York:20260507T090000\n"
        "EXDATE;TZID=America/New_York:20260518T090000\nSUMMARY:Groom\nORGANIZER:mailto:desk@shop.example\n"
        "ATTENDEE:mailto:desk@shop.example\nATTENDEE:mailto:ann@example.com\nEND:VEVENT\n"
        "BEGIN:VEVENT\nUID:groom\nRECURRENCE-ID:20260504T130000Z\n"
        "DTSTART;TZID=America/New_York:20260505T110000\nDURATION:PT1H\nSUMMARY:Groom\n"
        "ORGANIZER:mailto:desk@shop.example\nATTENDEE:mailto:ann@example.com\nEND:VEVENT\n"
    ),
}


def sheets(*given: tuple[str, list[list[object]]]) -> bytes:
    book = openpyxl.Workbook()
    book.remove(book.active)
    for title, rows in given:
        sheet = book.create_sheet(title)
        for row in rows:
            sheet.append(row)
    file = io.BytesIO()
    book.save(file)
    return file.getvalue()


ROWS: list[list[object]] = [
    ["First name", "Last name", "Email", "Customer since"],
    ["Ann", "Pell", "ann@example.com", datetime(2024, 5, 12, 9, 40)],
    ["Bo", "Lisle", "bo@example.org", date(2024, 5, 13)],
]


def old_workbook() -> bytes:
    import xlwt

    book = xlwt.Workbook()
    sheet = book.add_sheet("People")
    for at, row in enumerate(ROWS):
        for column, cell in enumerate(row):
            style = (
                xlwt.easyxf(num_format_str="YYYY-MM-DD HH:MM")
                if isinstance(cell, date)
                else xlwt.Style.default_style
            )
            sheet.write(at, column, cell, style)
    file = io.BytesIO()
    book.save(file)
    return file.getvalue()


def open_document() -> bytes:
    from odf.opendocument import OpenDocumentSpreadsheet
    from odf.table import Table, TableCell, TableRow
    from odf.text import P

    document = OpenDocumentSpreadsheet()
    table = Table(name="People")
    for row in [row[:3] for row in ROWS]:
        made = TableRow()
        for cell in row:
            box = TableCell(valuetype="string")
            box.addElement(P(text=str(cell)))
            made.addElement(box)
        table.addElement(made)
    document.spreadsheet.addElement(table)
    file = io.BytesIO()
    document.write(file)
    return file.getvalue()


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    files = dict(TEXTS)
    files["read-me-sheet-first.xlsx"] = sheets(
        ("Read me", [["Exported by the till."], ["The second sheet holds the people."]]), ("People", ROWS)
    )
    files["day-and-time.xlsx"] = sheets(
        (
            "Sales",
            [
                ["Receipt", "Date", "Time", "Customer id", "Total"],
                ["R1", datetime(2026, 5, 12), time(9, 40), "C1", 12.5],
                ["R2", datetime(2026, 5, 12), datetime(1899, 12, 30, 15, 5), "C2", 3],
            ],
        )
    )
    files["old-workbook.xls"] = old_workbook()
    files["open-document.ods"] = open_document()
    for name, content in files.items():
        (FOLDER / name).write_bytes(content if isinstance(content, bytes) else content.encode())
    sys.stdout.write(f"{len(files)} files in {FOLDER}\n")


if __name__ == "__main__":
    main()
