"""The one error a user may see: plain words, with the place and the remedy."""


class ArtulineError(Exception):
    """Something the user can understand and mend.

    Parameters are joined into one line: what is wrong, where, and what to do about it.
    """

    def __init__(self, problem: str, *, place: str = "", remedy: str = ""):
        self.problem = problem
        self.place = place
        self.remedy = remedy
        text = f"{place}: {problem}" if place else problem
        super().__init__(f"{text.rstrip('.')}. {remedy}" if remedy else text)


class CancelledError(ArtulineError):
    """Long work was stopped on request; nothing was changed."""

    def __init__(self) -> None:
        super().__init__("stopped on request")
