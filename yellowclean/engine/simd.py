"""Numbers side by side: what compiled kernels work on at once, whatever the processor's vectors are called.

The compiler finds such lines by itself only where it can prove that no two arrays overlap; told here, kernels are
four to five times as quick. Products are fused with the sum that takes them, alike in every lane, so that a result
does not depend on where in a line it stands.

What Numba keeps of compiled kernels it renews by the date of their own file alone: after a change here, remove
`__pycache__` beside them.

Within `numba.njit` functions only: `load(array, at)` and `store(array, at, lanes)` count single elements of a
float32 array in C order, whatever its shape, and check no bounds; `+ - * /` work between lanes, and with a float32.
"""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import Any, ClassVar

import numba as nb
from llvmlite import ir
from numba import types
from numba.core.typing.templates import ConcreteTemplate, infer_global, signature
from numba.extending import intrinsic as _intrinsic
from numba.extending import lower_builtin, models, register_model

intrinsic: Any = _intrinsic  # what it makes has no place in the type checker's world

COUNT = 16

unsigned = nb.uint64
"""The kind of positions in kernels: with signed ones every access would first be tested for a negative index, and
no loop over a line be carried out on several numbers at once."""

_VECTOR = ir.VectorType(ir.FloatType(), COUNT)
_UNDEFINED = ir.Constant(_VECTOR, ir.Undefined)
_FUSED = ("contract",)


class _Lanes(types.Type):
    def __init__(self) -> None:
        super().__init__(name=f"float32x{COUNT}")


LANES = _Lanes()


@register_model(_Lanes)
class _Model(models.PrimitiveModel):
    def __init__(self, manager: Any, kind: Any) -> None:
        super().__init__(manager, kind, _VECTOR)


def _mask(places: list[int]) -> ir.Constant:
    return ir.Constant(ir.VectorType(ir.IntType(32), COUNT), places)


def _spread(builder: Any, value: Any) -> Any:
    first = builder.insert_element(_UNDEFINED, value, ir.Constant(ir.IntType(32), 0))
    return builder.shuffle_vector(first, _UNDEFINED, _mask([0] * COUNT))


def _operator(symbol: Callable[[Any, Any], Any], instruction: str) -> None:
    kinds = [(LANES, LANES), (LANES, types.float32), (types.float32, LANES)]

    @infer_global(symbol)
    class Typed(ConcreteTemplate):
        cases: ClassVar = [signature(LANES, *sides) for sides in kinds]

    def lowered(context: Any, builder: Any, typed: Any, values: Any) -> Any:
        sides = [v if kind == LANES else _spread(builder, v) for kind, v in zip(typed.args, values, strict=True)]
        return getattr(builder, instruction)(*sides, flags=_FUSED)

    for sides in kinds:
        lower_builtin(symbol, *sides)(lowered)


_operator(operator.add, "fadd")
_operator(operator.sub, "fsub")
_operator(operator.mul, "fmul")
_operator(operator.truediv, "fdiv")


def _pointer(context: Any, builder: Any, kind: Any, array: Any, at: Any) -> Any:
    data = context.make_array(kind)(context, builder, array).data
    return builder.bitcast(builder.gep(data, [at]), _VECTOR.as_pointer())


@intrinsic
def load(_typing, array, at):  # type: ignore[no-untyped-def]
    """Sixteen elements of an array from the one that is `at` elements behind the first."""

    def lowered(context, builder, typed, values):  # type: ignore[no-untyped-def]
        return builder.load(_pointer(context, builder, typed.args[0], *values), align=4)

    return LANES(array, types.uint64), lowered


@intrinsic
def store(_typing, array, at, lanes):  # type: ignore[no-untyped-def]
    """The opposite of `load`."""

    def lowered(context, builder, typed, values):  # type: ignore[no-untyped-def]
        builder.store(values[2], _pointer(context, builder, typed.args[0], *values[:2]), align=4)
        return context.get_dummy_value()

    return types.none(array, types.uint64, LANES), lowered


@intrinsic
def spread(_typing, value):  # type: ignore[no-untyped-def]
    """One number in all lanes."""

    def lowered(_context, builder, _typed, values):  # type: ignore[no-untyped-def]
        return _spread(builder, values[0])

    return LANES(types.float32), lowered


@intrinsic
def chosen(_typing, a, b, greater, otherwise):  # type: ignore[no-untyped-def]
    """Of two lanes, the first where a > b."""

    def lowered(_context, builder, _typed, values):  # type: ignore[no-untyped-def]
        return builder.select(builder.fcmp_ordered(">", *values[:2]), *values[2:])

    return LANES(LANES, LANES, LANES, LANES), lowered


def _by_processor(name: str) -> Any:
    """An operation of one argument that processors have."""

    @intrinsic
    def done(_typing, lanes):  # type: ignore[no-untyped-def]
        def lowered(_context, builder, _typed, values):  # type: ignore[no-untyped-def]
            kind = ir.FunctionType(_VECTOR, [_VECTOR])
            return builder.call(builder.module.declare_intrinsic(f"llvm.{name}.v{COUNT}f32", (), kind), values)

        return LANES(LANES), lowered

    return done


root = _by_processor("sqrt")
whole_below = _by_processor("floor")


def _shuffled(places: list[int]) -> Any:
    """An operation that picks lanes of two, counted through."""

    @intrinsic
    def picked(_typing, a, b):  # type: ignore[no-untyped-def]
        def lowered(_context, builder, _typed, values):  # type: ignore[no-untyped-def]
            return builder.shuffle_vector(*values, _mask(places))

        return LANES(LANES, LANES), lowered

    return picked


evens = _shuffled(list(range(0, 2 * COUNT, 2)))
odds = _shuffled(list(range(1, 2 * COUNT, 2)))
first_woven = _shuffled([k // 2 + COUNT * (k % 2) for k in range(COUNT)])
last_woven = _shuffled([k // 2 + COUNT * (k % 2) for k in range(COUNT, 2 * COUNT)])
