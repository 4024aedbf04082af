"""A request with its response as a value; HAR 1.2 in and out; requests from pasted command lines.

Never sends anything. Start reading at `model`.
"""

from dynamikos.core.exchanges.curl import read_curl
from dynamikos.core.exchanges.decoding import Bomb, decode_body
from dynamikos.core.exchanges.har import HostSummary, Mark, Recording, hosts_of, read_har
from dynamikos.core.exchanges.har_out import write_har
from dynamikos.core.exchanges.model import Answer, Exchange, Sent, Timings, text_of

__all__ = [
    "Answer",
    "Bomb",
    "Exchange",
    "HostSummary",
    "Mark",
    "Recording",
    "Sent",
    "Timings",
    "decode_body",
    "hosts_of",
    "read_curl",
    "read_har",
    "text_of",
    "write_har",
]
