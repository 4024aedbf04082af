"""Requests from command lines: `curl` calls pasted in bulk, header blocks and form data copied from
a browser.
"""

import base64
import re
import shlex
from collections.abc import Iterator
from urllib.parse import urlsplit

from dynamikos.core.errors import ImportRefused
from dynamikos.core.exchanges.model import Exchange, Sent

# options with a value that say nothing about the request
SILENT = frozenset(
    "-o --output -w --write-out -m --max-time --connect-timeout -c --cookie-jar --retry -x --proxy "
    "--cacert --cert"
    " --key -E --interface --resolve --limit-rate -D --dump-header --max-redirs --proxy-user "
    "--tlsv1.2 --ciphers"
    " --stderr --trace --trace-ascii".split()
)
WITH_VALUE = "XHdFbuAeomwcxED"
GAP_US = 2_000_000


def read_curl(text: str) -> list[Exchange]:
    """The requests of all `curl` calls in `text`, in order, two seconds apart so that each becomes
    a step.

    Lines may go on with a backslash (or ^, as one system's shell writes it). Raises ImportRefused
    naming the call that can't be read.
    """
    text = re.sub(r"^curl\.exe(?=\s)", "curl", text.strip(), flags=re.M)
    if re.search(r'\s\^"', text):
        text = _without_carets(text)
    else:
        text = _ansi(re.sub(r"[\\^]\r?\n", " ", text))
    calls = [
        call.strip() for call in re.split(r"(?:^|[\n;]|&&)\s*(?=curl\s)", text) if call.strip()
    ]
    if not any(call.startswith("curl") for call in calls):
        return [_block(text)]
    made = []
    for number, call in enumerate(calls, 1):
        if not call.startswith("curl"):
            raise ImportRefused(f"call {number} does not begin with curl: '{call[:60]}'")
        try:
            words = shlex.split(call.rstrip("&; \n"))
        except ValueError as problem:
            raise ImportRefused(
                f"call {number}: {problem}; is a quotation mark missing? It begins '{call[:60]}'"
            ) from problem
        made.append(_request(words[1:], number, (number - 1) * GAP_US))
    return made


def _without_carets(text: str) -> str:
    """A call as browsers copy it for the command prompt of Windows: ^ before each sign that means
    something there, ^ at the end of a line that goes on, and ^ with two line breaks for one in a
    value.
    """

    def meant(match: re.Match[str]) -> str:
        sign = match.group(1)
        return sign if not sign.isspace() or sign == " " else "\n" if sign.count("\n") == 2 else " "

    return re.sub(r"\^(\r?\n\r?\n|\r?\n|.)", meant, text)


def _ansi(text: str) -> str:
    """$'…' words with their escapes resolved, quoted plainly. Inside of other quotation marks $' is
    as it stands.
    """

    def plain(match: re.Match[str]) -> str:
        if match.group(1) is None:
            return match.group()
        return shlex.quote(
            match.group(1).encode("latin-1", "backslashreplace").decode("unicode_escape")
        )

    quoted = r"""'[^']*'|"(?:[^"\\]|\\.)*"|\\."""
    return re.sub(rf"{quoted}|\$'((?:[^'\\]|\\.)*)'", plain, text, flags=re.S)


def _request(words: list[str], number: int, started_us: int) -> Exchange:
    method, url, headers = "", "", []
    data: list[str] = []
    fields: list[tuple[str, str]] = []
    as_query = json = False
    rest = _split(words)
    for word in rest:
        if word in ("-X", "--request"):
            method = next(rest, "").upper()
        elif word in ("-H", "--header"):
            line = next(rest, "")
            name, sign, value = line.partition(":")
            if sign and value.strip():
                headers.append((name.strip(), value.strip()))
        elif word in ("-d", "--data", "--data-raw", "--data-binary", "--data-ascii"):
            data.append(next(rest, ""))
        elif word == "--data-urlencode":
            from urllib.parse import quote_plus

            name, sign, value = next(rest, "").partition("=")
            data.append(f"{name}={quote_plus(value)}" if sign else quote_plus(name))
        elif word == "--json":
            data.append(next(rest, ""))
            json = True
        elif word in ("-F", "--form", "--form-string"):
            name, _, value = next(rest, "").partition("=")
            fields.append((name, value))
        elif word in ("-b", "--cookie"):
            next(rest, "")  # cookies are the jar's
        elif word in ("-u", "--user"):
            headers.append(
                ("Authorization", "Basic " + base64.b64encode(next(rest, "").encode()).decode())
            )
        elif word in ("-A", "--user-agent"):
            headers.append(("User-Agent", next(rest, "")))
        elif word in ("-e", "--referer"):
            headers.append(("Referer", next(rest, "")))
        elif word in ("-G", "--get"):
            as_query = True
        elif word in ("-I", "--head"):
            method = "HEAD"
        elif word == "--url":
            url = next(rest, "")
        elif word in SILENT:
            next(rest, "")
        elif word.startswith("-"):
            continue  # a switch that says nothing about the request, such as --compressed
        elif not url:
            url = word
        else:
            raise ImportRefused(
                f"call {number}: two addresses, '{url[:60]}' and '{word[:60]}'; is a quotation "
                "mark missing?"
            )
    if any(each.startswith("@") for each in data):
        raise ImportRefused(
            f"call {number} sends a file ({next(each for each in data if each.startswith('@'))}), "
            "which is not here;"
            " paste its content instead"
        )
    url = url if "://" in url else f"http://{url}"
    if urlsplit(url).scheme not in ("http", "https") or not urlsplit(url).hostname:
        raise ImportRefused(
            f"call {number} has no http or https address; it begins 'curl {' '.join(words)[:60]}'"
        )
    body = "&".join(data).encode()
    names = {name.lower() for name, _ in headers}
    if as_query and body:
        url, body = url + ("&" if "?" in url else "?") + body.decode(), b""
    if fields:
        mark = "dynamikos-fields"
        body = (
            "".join(
                f'--{mark}\r\nContent-Disposition: form-data; name="{n}"\r\n\r\n{v}\r\n'
                for n, v in fields
            ).encode()
            + f"--{mark}--\r\n".encode()
        )
        headers = [(n, v) for n, v in headers if n.lower() != "content-type"] + [
            ("Content-Type", f"multipart/form-data; boundary={mark}")
        ]
    elif body and "content-type" not in names:
        headers.append(
            ("Content-Type", "application/json" if json else "application/x-www-form-urlencoded")
        )
    sent = Sent(
        method=method or ("POST" if body else "GET"),
        url=url.partition("#")[0],
        headers=tuple(headers),
        body=body,
    )
    return Exchange(
        sent=sent,
        started_us=started_us,
        entry=number - 1,
        error="not recorded: pasted as a command line",
    )


def _split(words: list[str]) -> Iterator[str]:
    """Words with what is written together taken apart: -XPOST, --data=…, -H'…'."""
    for word in words:
        if re.match(r"-[A-Za-z].", word):
            for index, letter in enumerate(word[1:], 1):
                yield f"-{letter}"
                if letter in WITH_VALUE:
                    if word[index + 1 :]:
                        yield word[index + 1 :]
                    break
        elif re.match(r"--[a-z-]+=", word):
            name, _, value = word.partition("=")
            yield name
            yield value
        else:
            yield word


def _block(text: str) -> Exchange:
    """A request as a browser's network panel shows it: first line, headers, an empty line, the
    body.
    """
    head, _, body = text.replace("\r\n", "\n").partition("\n\n")
    lines = head.split("\n")
    first = re.match(r"([A-Z]{3,10}) (\S+)(?: HTTP/[\d.]+)?\s*\Z", lines[0])
    if not first:
        raise ImportRefused(
            "Paste curl calls, or a request as a browser shows it: 'GET /path HTTP/1.1', its "
            "headers, an empty line,"
            f" its body. This begins '{lines[0][:60]}'."
        )
    headers = []
    for number, line in enumerate(lines[1:], 2):
        name, sign, value = line.partition(":")
        if not sign or not name.strip():
            raise ImportRefused(
                f"line {number} is no header ('{line[:60]}'); headers look like 'Name: value'"
            )
        headers.append((name.strip(), value.strip()))
    url = first.group(2)
    if url.startswith("/"):
        host = next(
            (value for name, value in headers if name.lower() in ("host", ":authority")), ""
        )
        if not host:
            raise ImportRefused(
                "The request has no host: add a line such as 'Host: shop.example', or write the "
                "whole address in the"
                " first line."
            )
        scheme = next(
            (value for name, value in headers if name == ":scheme"),
            "https" if any(n.lower().startswith("sec-fetch") for n, _ in headers) else "http",
        )
        url = f"{scheme}://{host}{url}"
    kept = tuple((name, value) for name, value in headers if not name.startswith(":"))
    return Exchange(
        sent=Sent(method=first.group(1), url=url, headers=kept, body=body.strip().encode()),
        entry=0,
        error="not recorded: pasted as text",
    )
