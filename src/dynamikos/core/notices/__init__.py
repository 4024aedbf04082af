"""What is told to others of a run: the message, its signature, and when it is tried again.

Never sends anything. Start reading at `message`.
"""

from dynamikos.core.notices.message import EVENTS, Event, Told, body_of, mail_of, signature, wait_s

__all__ = ["EVENTS", "Event", "Told", "body_of", "mail_of", "signature", "wait_s"]
