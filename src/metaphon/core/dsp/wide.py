"""Numbers worked on side by side inside compiled loops: eight doubles, or sixteen of 32 bits.

What a compiler does not find by itself: recursive filters of several channels run in wide
registers, and what was read once is used for all. On a processor without such registers the same
numbers come out, a few at a time.
"""

import operator
from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba.core import types
from numba.core.datamodel import models
from numba.extending import intrinsic, overload, register_model

LANES = 8  # of doubles
SAMPLES = 16  # of 32 bits
_WHOLE = ir.IntType(32)
_EIGHT = ir.VectorType(ir.DoubleType(), LANES)
_EIGHT_SINGLE = ir.VectorType(ir.FloatType(), LANES)


def _generated(function: Any) -> Any:
    """A function of compiled code that is written down instruction by instruction."""
    return intrinsic(function)


class _Wide(types.Type):
    """Numbers in a register, as compiled code knows them."""

    def __init__(self, of: Any, count: int) -> None:
        super().__init__(f"Wide({of}, {count})")
        elements = {types.float64: ir.DoubleType(), types.float32: ir.FloatType()}
        self.vector = ir.VectorType(elements.get(of, _WHOLE), count)
        self.is_whole = of not in elements
        self.aligned = of.bitwidth // 8


@register_model(_Wide)
class _WideModel(models.PrimitiveModel):
    def __init__(self, manager: Any, kind: _Wide) -> None:
        super().__init__(manager, kind, kind.vector)  # type: ignore[no-untyped-call]


_wide = _Wide(types.float64, LANES)
_samples = _Wide(types.float32, SAMPLES)
_wholes = _Wide(types.int32, SAMPLES)
_kinds = {types.float64: _wide, types.float32: _samples, types.int32: _wholes}


def _operation(of: Callable[..., Any], real: str | None, whole: str) -> None:
    """What an operator does between two of a kind; sums of products may be rounded once."""

    @_generated
    def both(context, one, other):  # type: ignore[no-untyped-def]
        def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
            if one.is_whole or real is None:
                return getattr(builder, whole)(*arguments)
            return getattr(builder, real)(*arguments, flags=("contract",))

        return one(one, other), generated

    @overload(of)
    def operation(one, other):  # type: ignore[no-untyped-def]
        if isinstance(one, _Wide) and one == other and (real or one.is_whole):
            return lambda one, other: both(one, other)
        return None


for _of, _real, _whole in (
    (operator.add, "fadd", "add"),
    (operator.sub, "fsub", "sub"),
    (operator.mul, "fmul", "mul"),
    (operator.xor, None, "xor"),
    (operator.and_, None, "and_"),
    (operator.rshift, None, "lshr"),  # of bits, whatever their sign
):
    _operation(_of, _real, _whole)


@_generated
def splat(context, value):  # type: ignore[no-untyped-def]
    """The same number in every place."""
    kind = _kinds[value]

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        nothing = ir.Constant(kind.vector, ir.Undefined)
        one = builder.insert_element(nothing, arguments[0], _WHOLE(0))
        return _shuffled(builder, one, nothing, [0] * kind.vector.count)

    return kind(value), generated


@_generated
def load(context, numbers, at):  # type: ignore[no-untyped-def]
    """As many numbers of an array as there is room for, from a place on."""
    kind = _kinds[numbers.dtype]

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        place = _place(context, builder, signature.args[0], arguments, kind)
        return builder.load(place, align=kind.aligned)

    return kind(_line(numbers), types.intp), generated


@_generated
def store(context, numbers, at, value):  # type: ignore[no-untyped-def]
    """Put numbers into an array from a place on."""
    kind = _kinds[numbers.dtype]

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        place = _place(context, builder, signature.args[0], arguments[:2], kind)
        builder.store(arguments[2], place, align=kind.aligned)
        return context.get_dummy_value()

    return types.void(_line(numbers), types.intp, kind), generated


@_generated
def eight_frames(context, sound, rows, at):  # type: ignore[no-untyped-def]
    """Eight frames of eight channels, one after the other.

    `sound` is (channels, frames) in single precision, `rows` says where each of the eight begins
    in it, counted in samples, `at` which frame is the first.
    """
    found = types.UniTuple(_wide, LANES)  # type: ignore[no-untyped-call]

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        lines = [
            builder.load(builder.bitcast(place, _EIGHT_SINGLE.as_pointer()), align=4)
            for place in _in_rows(context, builder, signature.args, arguments)
        ]
        _turned(builder, lines)
        frames = [builder.fpext(line, _EIGHT) for line in lines]
        return context.make_tuple(builder, found, frames)

    return found(_plane(sound), _line(rows), types.intp), generated


@_generated
def one_frame(context, sound, rows, at):  # type: ignore[no-untyped-def]
    """One frame of eight channels; as `eight_frames`."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        frame = ir.Constant(_EIGHT_SINGLE, ir.Undefined)
        for lane, place in enumerate(_in_rows(context, builder, signature.args, arguments)):
            frame = builder.insert_element(frame, builder.load(place), _WHOLE(lane))
        return builder.fpext(frame, _EIGHT)

    return _wide(_plane(sound), _line(rows), types.intp), generated


@_generated
def put_frames(context, frames, sound, rows, at):  # type: ignore[no-untyped-def]
    """Put eight frames, sixty-four doubles, back where `eight_frames` takes them from."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        held, *where = arguments
        data = context.make_array(signature.args[0])(context, builder, held).data
        lines = []
        for n in range(LANES):
            place = builder.bitcast(
                builder.gep(data, [ir.IntType(64)(n * LANES)]), _EIGHT.as_pointer()
            )
            lines.append(builder.fptrunc(builder.load(place, align=8), _EIGHT_SINGLE))
        _turned(builder, lines)
        places = _in_rows(context, builder, signature.args[1:], where)
        for line, place in zip(lines, places, strict=True):
            builder.store(line, builder.bitcast(place, _EIGHT_SINGLE.as_pointer()), align=4)
        return context.get_dummy_value()

    arrays = _line(frames), _plane(sound), _line(rows)
    return types.void(*arrays, types.intp), generated


@_generated
def put_fours(context, numbers, rows, at, found, place, step):  # type: ignore[no-untyped-def]
    """Put four whole numbers of each of four rows across: the first of all, then the second.

    `numbers` is (rows, frames), `rows` says where each of the four begins in it, `at` which frame
    is the first. They go into `found` from a place on, the next frame `step` further on.
    """

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        sound, begins, at, found, place, step = arguments
        four = ir.VectorType(_WHOLE, 4)
        lines = [
            builder.load(builder.bitcast(one, four.as_pointer()), align=4)
            for one in _in_rows(context, builder, signature.args, [sound, begins, at], 4)
        ]
        _turned(builder, lines)
        into = context.make_array(signature.args[3])(context, builder, found).data
        for line in lines:
            where = builder.bitcast(builder.gep(into, [place]), four.as_pointer())
            builder.store(line, where, align=4)
            place = builder.add(place, step)
        return context.get_dummy_value()

    arrays = _plane(numbers, types.int32), _line(rows), types.intp, _line(found)
    return types.void(*arrays, types.intp, types.intp), generated


@_generated
def as_samples(context, wholes):  # type: ignore[no-untyped-def]
    """Whole numbers as samples."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return builder.sitofp(arguments[0], _samples.vector)

    return _samples(_wholes), generated


@_generated
def as_wholes(context, samples):  # type: ignore[no-untyped-def]
    """Samples that are whole numbers as such."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return builder.fptosi(arguments[0], _wholes.vector)

    return _wholes(_samples), generated


@_generated
def floors(context, samples):  # type: ignore[no-untyped-def]
    """The next whole number below each sample."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        kind = ir.FunctionType(_samples.vector, [_samples.vector])
        name = f"llvm.floor.v{SAMPLES}f32"
        known = builder.module.globals.get(name) or ir.Function(builder.module, kind, name)
        return builder.call(known, arguments)

    return _samples(_samples), generated


@_generated
def held_within(context, samples, low, high):  # type: ignore[no-untyped-def]
    """Samples, those below or above two others held there."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        value, low, high = arguments
        value = builder.select(builder.fcmp_ordered("<", value, low), low, value)
        return builder.select(builder.fcmp_ordered(">", value, high), high, value)

    return _samples(_samples, _samples, _samples), generated


@_generated
def where_sound(context, samples, wholes):  # type: ignore[no-untyped-def]
    """Whole numbers, and 0 where a sample is 0."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        sound, value = arguments
        none = ir.Constant(_samples.vector, None)
        silent = builder.fcmp_ordered("==", sound, none)
        return builder.select(silent, ir.Constant(_wholes.vector, None), value)

    return _wholes(_samples, _wholes), generated


def _later(by: int) -> Any:
    @_generated
    def moved(context, value):  # type: ignore[no-untyped-def]
        def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
            nothing = ir.Constant(_EIGHT, None)
            places = [max(n - by, -1) % (2 * LANES) for n in range(LANES)]
            return _shuffled(builder, arguments[0], nothing, places)

        return _wide(_wide), generated

    return moved


# every number so many places further on, and 0 in front
later_by_1, later_by_2, later_by_4 = _later(1), _later(2), _later(4)


@_generated
def last_of(context, value):  # type: ignore[no-untyped-def]
    """The last of eight numbers."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return builder.extract_element(arguments[0], _WHOLE(LANES - 1))

    return types.float64(_wide), generated


@_generated
def hushed(context, value, least):  # type: ignore[no-untyped-def]
    """The same numbers, with 0 for those that are no larger than `least`, or not numbers."""

    def generated(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        value, least = arguments
        above = builder.fcmp_ordered(">", value, least)
        larger = builder.or_(above, builder.fcmp_ordered("<", value, builder.fneg(least)))
        return builder.select(larger, value, ir.Constant(_EIGHT, None))

    return _wide(_wide, _wide), generated


def _line(numbers: Any) -> Any:
    assert numbers.ndim == 1 and numbers.layout == "C", numbers
    return numbers


def _plane(sound: Any, of: types.Type = types.float32) -> Any:
    assert sound.dtype == of and sound.ndim == 2 and sound.layout == "C", sound
    return sound


def _shuffled(builder: Any, one: Any, other: Any, places: list[int]) -> Any:
    """Numbers of two registers by their places in both, one behind the other."""
    kind = ir.VectorType(_WHOLE, len(places))
    return builder.shuffle_vector(one, other, ir.Constant(kind, places))


def _turned(builder: Any, lines: list[Any]) -> None:
    """As many lines as each is long, in place: each gets what was at its place in all of them."""
    count = len(lines)
    for step in (1, 2, 4)[: count.bit_length() - 1]:  # neighbours change places, then pairs
        for n in [n for n in range(count) if not n & step]:
            one, other = lines[n], lines[n + step]
            low = [count + i - step if i & step else i for i in range(count)]
            high = [count + i if i & step else i + step for i in range(count)]
            lines[n] = _shuffled(builder, one, other, low)
            lines[n + step] = _shuffled(builder, one, other, high)


def _place(context: Any, builder: Any, array: Any, arguments: Any, kind: _Wide) -> Any:
    """Where in an array the numbers from a place on lie."""
    data = context.make_array(array)(context, builder, arguments[0]).data
    return builder.bitcast(builder.gep(data, [arguments[1]]), kind.vector.as_pointer())


def _in_rows(
    context: Any, builder: Any, kinds: Any, arguments: Any, count: int = LANES
) -> list[Any]:
    """Where a frame lies in each of so many rows."""
    sound, rows, at = arguments
    data = context.make_array(kinds[0])(context, builder, sound).data
    begins = context.make_array(kinds[1])(context, builder, rows).data
    found = []
    for row in range(count):
        begin = builder.load(builder.gep(begins, [ir.IntType(64)(row)]))
        found.append(builder.gep(data, [builder.add(begin, at)]))
    return found
