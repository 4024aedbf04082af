"""The stand-in's pages as texts."""

from html import escape

FRAME = """<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{title}</title>
<link rel="stylesheet" href="/style.css"><script src="/script.js"></script></head>
<body><header><a href="/">Brindle Fell Observatory</a> <a href="/sign-in">Sign in</a>
<a href="/sky?constellation=lyra&amp;page=1">Sky</a></header>
<main>{body}</main></body></html>
"""
STYLE = (
    "body{font:16px/1.5 sans-serif;max-width:60em;margin:2em auto;color:#223}img{width:120px}table "
    "td{padding:.2em"
    " 1em}\n" * 4
)
SCRIPT = "document.documentElement.dataset.sky='ready';\n" * 8


def page(title: str, body: str) -> bytes:
    return FRAME.format(title=escape(title), body=body).encode()


def picture(number: int) -> bytes:
    stars = "".join(
        f'<circle cx="{(i * 37 * number) % 120}" cy="{(i * 53 + number * 11) % 80}" '
        f'r="{1 + i % 3}" fill="#fff"/>'
        for i in range(40)
    )
    return (
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 120 80"><rect width="120" height="80"'
        f' fill="#123"/>{stars}</svg>'.encode()
    )


def front() -> bytes:
    pictures = "".join(f'<img src="/pictures/{n}.svg" alt="sky {n}">' for n in range(1, 7))
    return page(
        "Brindle Fell Observatory", f"<h1>Borrow a telescope by the quarter-hour</h1>{pictures}"
    )


def sign_in(form_key: str, message: str = "") -> bytes:
    note = f"<p role='alert'>{escape(message)}</p>" if message else ""
    return page(
        "Sign in",
        f"""<h1>Sign in</h1>{note}<form method="post" action="/sign-in">
<input type="hidden" name="form_key" value="{form_key}">
<input type="hidden" name="click_x" value="0"><input type="hidden" name="click_y" value="0">
<label>E-mail <input name="email" type="email"></label> <label>Password <input name="password" type="password"></label>
<button>Sign in</button></form>""",  # noqa: E501
    )


def sky(
    constellation: str, number: int, found: list[dict[str, str]], token: str, name: str
) -> bytes:
    rows = "".join(
        f'<tr><td><a class="object" href="/objects/{each["slug"]}">{each["name"]}</a></td></tr>'
        for each in found
    )
    return page(
        "Tonight's sky",
        f"""<h1>Tonight's sky: {escape(constellation)}</h1><p>Welcome, {escape(name)}</p><table>{rows}</table>
<a rel="next" href="/sky?constellation={escape(constellation)}&amp;page={number + 1}">Next page</a>
<script>window.sky = {{"page": {number}, "skyToken": "{token}"}};</script>""",  # noqa: E501
    )


def thing(each: dict[str, str], sight: str) -> bytes:
    return page(
        each["name"],
        f"<h1>{each['name']}</h1><p data-sight='{sight}'>In {each['constellation']}. "
        + "A patient faint light. " * 60
        + "</p>",
    )


def booked(reference: str, minutes: int, night: str) -> bytes:
    return page(
        "Booking confirmed",
        f"<h1>Booking confirmed</h1><p>Your booking reference: <b>{reference}</b> for "
        f"{escape(night)}.</p>"
        f"<p>You have <span id='minutes'>{minutes}</span> minutes left.</p>",
    )


def postbox(email: str, reference: str, code: str) -> bytes:
    mail = (
        f"<p>Your code for {reference} is {code}.</p>"
        if code
        else "<p>No mail has arrived yet.</p>"
    )
    return page("Postbox", f"<h1>Postbox of {escape(email)}</h1>{mail}")


def firm(reference: str) -> bytes:
    return page("Booking firm", f"<h1>The booking {reference} is firm</h1><p>Clear skies.</p>")


def roof(key: str, waiting: list[str]) -> bytes:
    rows = "".join(f"<tr><td>{reference}</td></tr>" for reference in waiting)
    return page(
        "The roof",
        f"""<h1>On the roof tonight</h1><p>{len(waiting)} bookings wait.</p><table>{rows}</table>
<form method="post" action="/roof/approve"><input type="hidden" name="roof_key" value="{key}">
<button>Approve all</button></form>""",
    )


def approved(count: int) -> bytes:
    return page("Approved", f"<h1>Approved</h1><p>{count} bookings may begin.</p>")


def report(booked: dict[str, tuple[str, str, int]], approved: set[str]) -> bytes:
    """The heavy page: a line for each of the newest 500 bookings, and a long text."""
    lines = "".join(
        f"<tr><td>{reference}</td><td>{escape(night)}</td><td>{slot}</td>"
        f"<td>{'approved' if reference in approved else 'waits'}</td></tr>"
        for reference, (_, night, slot) in list(booked.items())[-500:]
    )
    words = "The dome stood open, and it was still. " * 400
    return page(
        "Report of the night", f"<h1>Report of the night</h1><table>{lines}</table><p>{words}</p>"
    )
