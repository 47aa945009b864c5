"""What all models of the document are made of: numbers in metres, kilograms, seconds, radians; quaternions (x, y, z, w)."""

import math
from collections import Counter
from collections.abc import Iterable
from functools import cached_property
from typing import Annotated, Any, Self

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, GetCoreSchemaHandler, model_validator
from pydantic_core import CoreSchema

MOST_FRAME = 1_000_000
MOST = 1e12  # of any number, whatever its unit


def _unit(q: tuple[float, float, float, float]) -> tuple[float, float, float, float]:
    length = math.sqrt(sum(c * c for c in q))
    if not 0.5 < length < 2.0:
        raise ValueError("a rotation must be a unit quaternion")
    # already unit to rounding: keep the bits, so that saving and loading change nothing
    return q if abs(length - 1.0) < 1e-9 else tuple(c / length for c in q)  # type: ignore[return-value]


def _plain(value: object) -> object:
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, tuple):
        return tuple(_plain(v) for v in value) if any(isinstance(v, (np.generic, tuple)) for v in value) else value
    return value


Vec3 = tuple[float, float, float]
Quat = Annotated[tuple[float, float, float, float], AfterValidator(_unit)]
Positive = Annotated[float, Field(gt=0.0)]
NonNegative = Annotated[float, Field(ge=0.0)]
Rate = Annotated[float, Field(ge=0.1, le=1000.0)]  # frames a second
Share = Annotated[float, Field(ge=0.0, le=1.0)]
Id = Annotated[str, Field(min_length=1)]

ZERO: Vec3 = (0.0, 0.0, 0.0)
UPRIGHT: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)


def _bound(schema: Any) -> None:
    if isinstance(schema, dict):
        kind = schema.get("type")
        if kind == "tuple":
            schema["fail_fast"] = True
        elif kind == "float":
            if "lt" not in schema:
                schema.setdefault("le", MOST)
            if "gt" not in schema:
                schema.setdefault("ge", -MOST)
        for inner in schema.values():
            _bound(inner)
    elif isinstance(schema, list):
        for inner in schema:
            _bound(inner)


class Model(BaseModel):
    """Base of all document models: frozen, strict about unknown fields, no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, ignored_types=(cached_property,))

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        """Lists end at their first fault: a file with a million faults would take gigabytes for their descriptions. Numbers are bounded, so that what is
        computed of them is finite.
        """
        schema = handler(source)
        _bound(schema)
        return schema

    @model_validator(mode="before")
    @classmethod
    def _numbers_of_python(cls, values: object) -> object:
        """A NumPy scalar is a float to pydantic and stays what it is: it prints, divides and saves differently."""
        return {n: _plain(v) for n, v in values.items()} if isinstance(values, dict) else values

    def changed(self, **values: object) -> Self:
        """A validated copy with some fields replaced."""
        return type(self).model_validate({**{n: getattr(self, n) for n in type(self).model_fields}, **values})


def unique(where: str, names: Iterable[str], what: str) -> None:
    """Raises ValueError if a name comes twice."""
    repeated = [n for n, count in Counter(names).items() if count > 1]
    if repeated:
        raise ValueError(f"{where} has more than one {what} {repeated[0]!r}")


def known(name: str, there: Iterable[str], where: str, what: str) -> None:
    """Raises ValueError if something refers to what is not there."""
    if name not in there:
        raise ValueError(f"{where} refers to the {what} {name!r}, which does not exist")
