"""The one error a user may see: plain words, with the place and the remedy."""

from pydantic import ValidationError


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

    def __str__(self) -> str:
        return str(self.args[0])


class MissingError(ArtulineError, KeyError):
    """Something that was referred to is not in the scene (any more)."""


class CancelledError(ArtulineError):
    """Long work was stopped on request; nothing was changed."""

    def __init__(self) -> None:
        super().__init__("stopped on request")


# What a value has to be, by the kind of error that the models' validation reports
_WANTED = {
    "greater_than": "must be above {gt}",
    "greater_than_equal": "must be {ge} or more",
    "less_than": "must be below {lt}",
    "less_than_equal": "must be {le} at most",
    "finite_number": "must be a number that is not infinite",
    "float_type": "must be a number",
    "float_parsing": "must be a number",
    "int_type": "must be a whole number",
    "int_parsing": "must be a whole number",
    "int_from_float": "must be a whole number",
    "bool_type": "must be true or false",
    "bool_parsing": "must be true or false",
    "string_type": "must be a text",
    "string_too_short": "must not be empty",
    "tuple_type": "must be a list",
    "missing": "is missing",
    "extra_forbidden": "is not known here",
    "literal_error": "must be one of {expected}",
    "too_short": "has too few items ({min_length} at least)",
    "too_long": "has too many items ({max_length} at most)",
    "model_type": "must be a group of named values",
    "model_attributes_type": "must be a group of named values",
}


def why_not(error: ValueError, *, place: bool = True) -> str:
    """What a refused value is about, in one line of plain words, from the error's own parts; with the place inside of the document."""
    if not isinstance(error, ValidationError):
        return str(error).splitlines()[0] if str(error) else "the value does not fit"
    first = error.errors(include_url=False, include_input=False)[0]
    context = first.get("ctx", {})
    if first["type"] == "value_error":
        words = str(context.get("error", "the value does not fit"))
    else:
        try:
            words = _WANTED.get(first["type"], "does not fit").format(**context)
        except (KeyError, IndexError):
            words = "does not fit"
    where = ".".join(str(p) for p in first["loc"])
    if not where or (not place and first["type"] == "value_error"):
        return words
    if not place:
        return f"{first['loc'][-1]} {words}"
    return f"{where}: {words}" if first["type"] == "value_error" else f"{where} {words}"
