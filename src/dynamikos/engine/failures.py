"""Why an exchange has no (right) answer: data for the report, never an error of ours."""


class Failure(Exception):
    """`kind` is counted ("connect-refused"), `detail` is for a person."""

    def __init__(self, kind: str, detail: str = "") -> None:
        self.kind, self.detail = kind, detail
        super().__init__(f"{kind}: {detail}" if detail else kind)


class Reopen(Failure):
    """A reused connection closed before any byte of the answer."""
