"""A request with its response as a value; HAR 1.2 in.

Never sends anything. Start reading at `model`.
"""

from dynamikos.core.exchanges.har import HostSummary, Mark, Recording, hosts_of, read_har
from dynamikos.core.exchanges.model import Answer, Exchange, Sent, Timings, decode_body, text_of

__all__ = ["Answer", "Exchange", "HostSummary", "Mark", "Recording", "Sent", "Timings", "decode_body", "hosts_of", "read_har", "text_of"]
