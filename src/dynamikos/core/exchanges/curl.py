"""Requests from command lines: `curl` calls pasted in bulk, header blocks and form data copied from
a browser.
"""

import base64
import re
import shlex
from collections.abc import Callable, Iterator, Sequence
from urllib.parse import quote_plus, urlsplit

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
    said = _Said()
    rest = _split(words)
    for word in rest:
        option = OPTIONS.get(word)
        if option is not None:
            option(said, next(rest, "") if word not in SWITCHES else "")
        elif word.startswith("-"):
            continue  # a switch that says nothing about the request, such as --compressed
        elif not said.url:
            said.url = word
        else:
            raise ImportRefused(
                f"call {number}: two addresses, '{said.url[:60]}' and '{word[:60]}'; is a "
                "quotation mark missing?"
            )
    file = next((each for each in said.data if each.startswith("@")), None)
    if file is not None:
        raise ImportRefused(
            f"call {number} sends a file ({file}), which is not here; paste its content instead"
        )
    url = said.url if "://" in said.url else f"http://{said.url}"
    if urlsplit(url).scheme not in ("http", "https") or not urlsplit(url).hostname:
        raise ImportRefused(
            f"call {number} has no http or https address; it begins 'curl {' '.join(words)[:60]}'"
        )
    return Exchange(
        sent=said.sent(url),
        started_us=started_us,
        entry=number - 1,
        error="not recorded: pasted as a command line",
    )


class _Said:
    """What the words of a command line said of its request."""

    def __init__(self) -> None:
        self.method = self.url = ""
        self.headers: list[tuple[str, str]] = []
        self.data: list[str] = []
        self.fields: list[tuple[str, str]] = []
        self.as_query = self.is_json = False

    def asked(self, method: str) -> None:
        self.method = method.upper()

    def header(self, line: str) -> None:
        name, sign, value = line.partition(":")
        if sign and value.strip():
            self.headers.append((name.strip(), value.strip()))

    def encoded(self, text: str) -> None:
        name, sign, value = text.partition("=")
        self.data.append(f"{name}={quote_plus(value)}" if sign else quote_plus(name))

    def json(self, text: str) -> None:
        self.data.append(text)
        self.is_json = True

    def field(self, text: str) -> None:
        name, _, value = text.partition("=")
        self.fields.append((name, value))

    def user(self, text: str) -> None:
        proof = base64.b64encode(text.encode()).decode()
        self.headers.append(("Authorization", f"Basic {proof}"))

    def sent(self, url: str) -> Sent:
        """The request, to `url`."""
        body, headers = "&".join(self.data).encode(), list(self.headers)
        if self.as_query and body:
            url, body = url + ("&" if "?" in url else "?") + body.decode(), b""
        if self.fields:
            body = _multipart(self.fields)
            headers = [(n, v) for n, v in headers if n.lower() != "content-type"]
            headers.append(("Content-Type", f"multipart/form-data; boundary={BOUNDARY}"))
        elif body and all(name.lower() != "content-type" for name, _ in headers):
            kind = "json" if self.is_json else "x-www-form-urlencoded"
            headers.append(("Content-Type", f"application/{kind}"))
        return Sent(
            method=self.method or ("POST" if body else "GET"),
            url=url.partition("#")[0],
            headers=tuple(headers),
            body=body,
        )


def _multipart(fields: Sequence[tuple[str, str]]) -> bytes:
    parts = (
        f'--{BOUNDARY}\r\nContent-Disposition: form-data; name="{name}"\r\n\r\n{value}\r\n'
        for name, value in fields
    )
    return "".join((*parts, f"--{BOUNDARY}--\r\n")).encode()


def _named(name: str) -> Callable[[_Said, str], None]:
    return lambda said, value: said.headers.append((name, value))


def _nothing(said: _Said, value: str) -> None:
    """Of an option whose value says nothing about the request; cookies are the jar's."""


BOUNDARY = "dynamikos-fields"
SWITCHES = ("-G", "--get", "-I", "--head")  # without a value
OPTIONS: dict[str, Callable[[_Said, str], None]] = {
    **dict.fromkeys(SILENT, _nothing),
    **dict.fromkeys(("-b", "--cookie"), _nothing),
    **dict.fromkeys(("-X", "--request"), _Said.asked),
    **dict.fromkeys(("-H", "--header"), _Said.header),
    **dict.fromkeys(
        ("-d", "--data", "--data-raw", "--data-binary", "--data-ascii"),
        lambda said, text: said.data.append(text),
    ),
    "--data-urlencode": _Said.encoded,
    "--json": _Said.json,
    **dict.fromkeys(("-F", "--form", "--form-string"), _Said.field),
    **dict.fromkeys(("-u", "--user"), _Said.user),
    **dict.fromkeys(("-A", "--user-agent"), _named("User-Agent")),
    **dict.fromkeys(("-e", "--referer"), _named("Referer")),
    **dict.fromkeys(("-G", "--get"), lambda said, _: setattr(said, "as_query", True)),
    **dict.fromkeys(("-I", "--head"), lambda said, _: said.asked("HEAD")),
    "--url": lambda said, text: setattr(said, "url", text),
}


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
