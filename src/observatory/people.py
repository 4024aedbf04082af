"""The invented observers, objects and nights."""

import datetime

FIRST = [
    "Ada",
    "Bran",
    "Cass",
    "Dene",
    "Elin",
    "Fenn",
    "Gwen",
    "Hale",
    "Isla",
    "Jory",
    "Kesh",
    "Lorn",
    "Mira",
    "Nell",
    "Orla",
    "Pell",
    "Quin",
    "Rhys",
    "Suri",
    "Tamm",
    "Una",
    "Vale",
    "Wren",
    "Yara",
    "Zeb",
]
LAST = [
    "Ashdown",
    "Birkett",
    "Calder",
    "Dunmail",
    "Eskdale",
    "Fairfield",
    "Greenup",
    "Harrop",
    "Inglesby",
    "Kentmere",
    "Loweswater",
    "Mardale",
    "Nether",
    "Otterbield",
    "Patter",
]
CONSTELLATIONS = ("lyra", "cygnus", "draco", "aquila", "perseus", "cassiopeia", "orion", "bootes")
KINDS = ("ring", "cluster", "galaxy", "double", "nebula")
FIRST_NIGHT = datetime.date(2027, 1, 1)


def observer(number: int) -> tuple[str, str, str, str, str]:
    """(email, password, name, constellation, night) of observer `number` from 0; no two share an
    email or a night.
    """
    first, last = FIRST[number % len(FIRST)], LAST[number // len(FIRST) % len(LAST)]
    email = f"{first}.{last}{number}@observers.example".lower()
    night = FIRST_NIGHT + datetime.timedelta(days=number)
    return (
        email,
        password_of(email),
        f"{first} {last}",
        CONSTELLATIONS[number % len(CONSTELLATIONS)],
        night.strftime("%d.%m.%Y"),
    )


def password_of(email: str) -> str:
    """Every invented observer's password can be told from the address: the stand-in stores none."""
    return f"fell-{sum(map(ord, email)) * 7919 % 100_000:05d}-{email[:3]}"


def objects() -> list[dict[str, str]]:
    """400 objects of the sky."""
    return [
        {
            "slug": f"bf-{number:03d}-{KINDS[number % len(KINDS)]}",
            "name": f"BF {number} {KINDS[number % len(KINDS)].title()}",
            "constellation": CONSTELLATIONS[number % len(CONSTELLATIONS)],
        }
        for number in range(1, 401)
    ]
