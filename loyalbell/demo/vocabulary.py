"""Made-up names and the catalogue of Otterby Pet House."""

FIRST_NAMES = (
    "Wren Otis Mina Tove Ada Bram Cleo Dov Edda Finn Greta Hal Ines Jory Kit Lena Milo Nell Orla Pia Quill "
    "Rosa Sage Tam Una Vera Wilf Xenia Yara Zeno Alma Beck Cora Dara Elio Fern Gus Hedy Iris Joss Kaya Linus "
    "Maeve Nico Odette Perrin Rhea Silas Thea Umber Viggo Willa Yusuf Zadie Anouk Bashir Chidi Dalia Emeka "
    "Farah Goran Hana Idris Jun Kofi Leila Mateo Noor Oksana Priya Rafael Sunita Tariq Ulla Valentín Wei "
    "Ximena Yosef Zofia José Zoë Søren"
).split()
LAST_NAMES = (
    "Abara Vane Kol Harker Albright Bexley Corran Dunmore Ellery Farrow Gadd Holloway Inskip Jessop Kestrel "
    "Larkin Marlow Nettle Oakes Pell Quayle Rooke Sedge Thorne Upton Varley Wick Yarrow Zeller Ashdown Birch "
    "Calder Dray Eckhart Fenn Grieve Hask Ibsen Jarvis Kemble Lisle Mossop Norrell Orchard Penrose Quist "
    "Rudd Sallow Tarn Umbra Vickery Wexford Yates Zima Achterberg Boateng Castellanos Demir Eriksen Fujita "
    "Gutiérrez Haddad Ivanova Jankowski Kapoor Lindqvist Mbeki Nakamura Okafor Petrov Quispe Rahman Santos "
    "Tanaka Underhill Villanueva Weiss Xu Yilmaz Zhao O’Dell McBray"
).split()
COMPANIONS = (
    "Biscuit Pepper Mosswick Tansy Bramble Figaro Nutmeg Pippin Juniper Clover Otto Waffle Maple Socks Dill "
    "Hazel Rufus Sprout Truffle Olive Pickle Bean Marble Comet Poppy Barley Ginger Luna Fig Teasel"
).split()
KINDS = ("dog", "dog", "dog", "dog", "cat", "cat", "cat", "rabbit")
STREETS = (
    "Mill Row",
    "Quarry Lane",
    "Harbor Street",
    "Alder Avenue",
    "Pond Road",
    "Station Street",
    "Fern Hill",
)
CITIES = (("Otterby", "NY", "12999"), ("Lower Otterby", "NY", "12998"), ("Ferncross", "NY", "12997"))
AREA_CODES = (
    "212 315 332 347 516 518 585 607 631 646 680 716 718 838 845 914 917 929 934 203 475 860 959 201 551 609 "
    "640 732 848 856 862 908 973 215 267 272 412 484 570 610"
).split()
FAR_ZONES = ("America/Chicago", "America/Denver", "America/Los_Angeles")

SHOP, GROOM, CLINIC, CAFE = "Shop", "Groom room", "Clinic", "Café"
DEPARTMENTS = (SHOP, GROOM, CLINIC, CAFE)

# name, category, department, price in cents, days one unit lasts
CATALOGUE: tuple[tuple[str, str, str, int, int | None], ...] = (
    ("Meadow kibble, small bag", "Food", SHOP, 2400, 20),
    ("Meadow kibble, large bag", "Food", SHOP, 5200, 45),
    ("River fish kibble", "Food", SHOP, 3800, 30),
    ("Senior blend", "Food", SHOP, 4100, 30),
    ("Grain-free blend", "Food", SHOP, 4900, 30),
    ("Cat supper tins, 24", "Food", SHOP, 3400, 26),
    ("Hay bale", "Food", SHOP, 1800, 28),
    ("Pine litter", "Care", SHOP, 1900, 24),
    ("Oat shampoo", "Care", SHOP, 1400, 90),
    ("Detangling brush", "Care", SHOP, 1900, None),
    ("Dental chews", "Treats", SHOP, 1200, 21),
    ("Duck biscuits", "Treats", SHOP, 900, 18),
    ("Winter box", "Treats", SHOP, 2600, None),
    ("Rope toy", "Toys", SHOP, 1100, None),
    ("Feather wand", "Toys", SHOP, 800, None),
    ("Bath", "Grooming", GROOM, 4800, 42),
    ("Full groom", "Grooming", GROOM, 8400, 49),
    ("Nail trim", "Grooming", GROOM, 2400, 42),
    ("Yearly check-up", "Check-ups", CLINIC, 9500, 365),
    ("Vaccination", "Check-ups", CLINIC, 6500, 365),
    ("Dental cleaning", "Treatments", CLINIC, 24000, None),
    ("Follow-up visit", "Treatments", CLINIC, 5500, None),
    ("Coffee", "Drinks", CAFE, 450, None),
    ("Pot of tea", "Drinks", CAFE, 500, None),
    ("Weekend brunch", "Food and cake", CAFE, 1650, None),
    ("Carrot cake", "Food and cake", CAFE, 600, None),
)
