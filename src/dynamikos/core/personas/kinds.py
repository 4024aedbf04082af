"""The lines and clients that ship with the product, under names of our own."""

# down and up in kbit/s, latency (there and back) and jitter in ms
LINES: dict[str, tuple[float, float, float, float]] = {
    "edge radio": (200, 100, 300, 60),
    "field radio": (1_600, 750, 150, 30),
    "town radio": (12_000, 6_000, 50, 10),
    "bright radio": (80_000, 20_000, 20, 5),
    "thin wire": (6_000, 600, 40, 5),
    "house wire": (50_000, 10_000, 15, 2),
    "office wire": (100_000, 100_000, 2, 0),
}

CLIENTS: dict[str, tuple[tuple[str, str], ...]] = {
    "desk": (
        ("User-Agent", "Mozilla/5.0 (X11; Linux x86_64) Dynamikos/0.1"),
        ("Accept-Language", "en"),
        ("Sec-CH-UA-Mobile", "?0"),
    ),
    "phone": (
        ("User-Agent", "Mozilla/5.0 (Linux; Mobile) Dynamikos/0.1"),
        ("Accept-Language", "en"),
        ("Sec-CH-UA-Mobile", "?1"),
    ),
    "tablet": (
        ("User-Agent", "Mozilla/5.0 (Linux; Tablet) Dynamikos/0.1"),
        ("Accept-Language", "en"),
        ("Sec-CH-UA-Mobile", "?0"),
    ),
}
