"""The breakpoints of a lane as arrays: times, values, and how each goes on to the next."""

from base64 import b64decode, b64encode
from collections.abc import Iterable, Iterator
from functools import cached_property, lru_cache
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import (
    GetCoreSchemaHandler,
    GetJsonSchemaHandler,
    SerializationInfo,
    ValidationInfo,
)
from pydantic_core import CoreSchema, core_schema

from metaphon.core.kept_form import KeptForm

CurveName = Literal["linear", "hold", "smooth"]
CURVES: tuple[CurveName, ...] = ("linear", "hold", "smooth")
MOST_POINTS = 200_000  # of one lane: an hour at 50 a second
LARGEST = 1e9  # of a value: it stays a number whatever is done to it
_POINT_SCHEMA = {
    "type": "object",
    "properties": {
        "t_s": {"type": "number", "minimum": 0.0},
        "value": {"type": "number", "minimum": -LARGEST, "maximum": LARGEST},
        "curve": {"enum": list(CURVES), "default": "linear"},
    },
    "required": ["t_s", "value"],
    "additionalProperties": False,
}


class Breakpoint(NamedTuple):
    """A value at a time, and how it goes on to the next: straight, held, or eased in and out."""

    t_s: float
    value: float
    curve: CurveName = "linear"


class Breakpoints:
    """All breakpoints of a lane in order of time.

    Parameters
    ----------
    times_s : array of shape (points,)
        Seconds from the start of the mix, not falling, at least one.
    values : array of shape (points,)
        In the unit of what the lane moves.
    curves : array of shape (points,), optional
        Places in `CURVES`, how each goes on to the next; 0 (straight) where not given.

    Raises
    ------
    ValueError
        Where there is none, they are not numbers or not in order.
    """

    def __init__(
        self, times_s: ArrayLike, values: ArrayLike, curves: ArrayLike | None = None
    ) -> None:
        times = np.array(times_s, dtype=np.float64).reshape(-1)
        kinds = (
            np.zeros(len(times), dtype=np.uint8)
            if curves is None
            else np.array(curves, dtype=np.uint8)
        )
        self.times_s, self.values, self.curves = (
            times,
            np.array(values, dtype=np.float64).reshape(-1),
            kinds,
        )
        if not 1 <= len(times) <= MOST_POINTS:
            raise ValueError(f"a lane has 1 to {MOST_POINTS} breakpoints")
        if not len(times) == len(self.values) == len(kinds):
            raise ValueError("every breakpoint needs a time, a value and a curve")
        if not (np.isfinite(times).all() and np.isfinite(self.values).all()) or times.min() < 0.0:
            raise ValueError("times and values of breakpoints are numbers, times from 0 on")
        if np.abs(self.values).max() > LARGEST:
            raise ValueError(f"values of breakpoints are from {-LARGEST:g} to {LARGEST:g}")
        if np.any(np.diff(times) < 0.0):
            raise ValueError("the breakpoints are not in order of time; sort them by t_s")
        if kinds.max() >= len(CURVES):
            raise ValueError(f"a curve is one of {', '.join(CURVES)}")
        for array in (times, self.values, kinds):
            array.flags.writeable = False

    @classmethod
    def of(cls, points: Iterable[Breakpoint]) -> "Breakpoints":
        """From single breakpoints, put in order of time."""
        ordered = sorted(points, key=lambda point: point[0])
        return cls(
            [point[0] for point in ordered],
            [point[1] for point in ordered],
            [CURVES.index(point[2]) for point in ordered],
        )

    @staticmethod
    def still(value: float) -> "Breakpoints":
        """One value that never moves."""
        return _still(value)

    def __len__(self) -> int:
        return len(self.times_s)

    def __getitem__(self, place: int) -> Breakpoint:
        return Breakpoint(
            float(self.times_s[place]), float(self.values[place]), CURVES[self.curves[place]]
        )

    def __iter__(self) -> Iterator[Breakpoint]:
        return (self[place] for place in range(len(self)))

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, Breakpoints):
            return NotImplemented
        return self._key == other._key

    def __hash__(self) -> int:
        return hash(self._key)

    def __repr__(self) -> str:
        return f"Breakpoints({len(self)} points, {self.times_s[0]:g} to {self.times_s[-1]:g} s)"

    def __reduce__(self) -> tuple[Any, ...]:
        return Breakpoints, (self.times_s, self.values, self.curves)

    @cached_property
    def _key(self) -> tuple[bytes, bytes, bytes]:
        return self.times_s.tobytes(), self.values.tobytes(), self.curves.tobytes()

    @cached_property
    def turned(self) -> NDArray[np.float64]:
        """The values as angles in degrees that go the shorter way round, on past 180."""
        return np.asarray(np.unwrap(self.values, period=360.0))

    @property
    def is_straight(self) -> bool:
        """Whether every breakpoint goes on in a straight line."""
        return not self.curves.any()

    def chosen(self, places: Any) -> "Breakpoints":
        """Some of the breakpoints, by places or by a mask."""
        return Breakpoints(self.times_s[places], self.values[places], self.curves[places])

    def with_values(self, values: NDArray[np.float64]) -> "Breakpoints":
        """The same times and curves with other values."""
        return Breakpoints(self.times_s, values, self.curves)

    def joined(self, *others: "Breakpoints") -> "Breakpoints":
        """These and others after them."""
        parts = (self, *others)
        return Breakpoints(
            np.concatenate([part.times_s for part in parts]),
            np.concatenate([part.values for part in parts]),
            np.concatenate([part.curves for part in parts]),
        )

    def packed(self) -> dict[str, str]:
        """The arrays as base64 of little-endian doubles and bytes.

        What the database keeps, quick to write and read.
        """
        curves = "" if self.is_straight else b64encode(self.curves.tobytes()).decode()
        return {
            "t_s": b64encode(self.times_s.astype("<f8").tobytes()).decode(),
            "value": b64encode(self.values.astype("<f8").tobytes()).decode(),
            "curve": curves,
        }

    @classmethod
    def unpacked(cls, packed: dict[str, str]) -> "Breakpoints":
        """What `packed` gave."""
        times, values = (
            np.frombuffer(b64decode(packed[name]), dtype="<f8") for name in ("t_s", "value")
        )
        return cls(
            times,
            values,
            np.frombuffer(b64decode(packed["curve"]), dtype=np.uint8) if packed["curve"] else None,
        )

    @classmethod
    def _validate(cls, given: Any, info: ValidationInfo) -> "Breakpoints":
        if isinstance(given, Breakpoints):
            return given
        if isinstance(given, dict) and isinstance(info.context, KeptForm):
            return cls.unpacked(given)
        if not isinstance(given, list | tuple) or not given:
            raise ValueError("a lane needs a list of breakpoints, one at least")
        if isinstance(given[0], Breakpoint):
            return cls.of(given)
        try:
            curves = [CURVES.index(point.get("curve", "linear")) for point in given]
            times, values = [point["t_s"] for point in given], [point["value"] for point in given]
            strange = {name for point in given for name in point} - set(Breakpoint._fields)
            if strange or not all(type(number) in (int, float) for number in (*times, *values)):
                raise ValueError
            times, values = [float(t) for t in times], [float(value) for value in values]
        except (AttributeError, KeyError, TypeError, ValueError, OverflowError):
            raise ValueError(
                f"each breakpoint is t_s, value and a curve of {', '.join(CURVES)}"
            ) from None
        return cls(times, values, curves)

    @staticmethod
    def _written(points: "Breakpoints", info: SerializationInfo) -> Any:
        if isinstance(info.context, KeptForm):
            return points.packed()
        return [point._asdict() for point in points]

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.with_info_plain_validator_function(
            cls._validate,
            serialization=core_schema.plain_serializer_function_ser_schema(
                cls._written, info_arg=True
            ),
        )

    @classmethod
    def __get_pydantic_json_schema__(
        cls, schema: CoreSchema, handler: GetJsonSchemaHandler
    ) -> dict[str, Any]:
        return {"type": "array", "minItems": 1, "items": _POINT_SCHEMA}


@lru_cache(16384)  # a plan of many strips asks for thousands, nearly all of them again
def _still(value: float) -> Breakpoints:
    return Breakpoints([0.0], [value])
