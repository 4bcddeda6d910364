"""Several channels of a texel at once: machine instructions on whole vectors, which no compiled loop is turned into."""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic


def _adds_taps(lanes: int) -> Any:
    @intrinsic
    def add_taps(typing, base, a, b, c, d, wa, wb, wc, wd, sums):
        """Add four texels of 16-bit values, weighted, to sums of 32-bit floats.

        ``base`` and ``sums`` are addresses; a, b, c, d count values from the base; wa to wd are their weights.
        """
        signature = types.void(*[types.int64] * 5, *[types.float32] * 4, types.int64)
        return signature, _build

    def _build(context, builder, signature, values):
        base, *places, wa, wb, wc, wd, sums = values
        stored, floats = ir.VectorType(ir.IntType(16), lanes), ir.VectorType(ir.FloatType(), lanes)
        nothing = ir.Constant(floats, ir.Undefined)
        first = ir.Constant(ir.VectorType(ir.IntType(32), lanes), [0] * lanes)
        target = builder.inttoptr(sums, floats.as_pointer())
        total = builder.load(target, typ=floats)
        total.align = 4
        for place, weight in zip(places, (wa, wb, wc, wd), strict=True):
            address = builder.add(base, builder.shl(place, ir.Constant(ir.IntType(64), 1)))
            read = builder.load(builder.inttoptr(address, stored.as_pointer()), typ=stored)
            read.align = 2
            one = builder.insert_element(nothing, weight, ir.Constant(ir.IntType(32), 0))
            spread = builder.shuffle_vector(one, nothing, first)
            total = builder.fadd(total, builder.fmul(builder.uitofp(read, floats), spread))
        builder.store(total, target).align = 4
        return context.get_dummy_value()

    return add_taps


add_taps_4, add_taps_8, add_taps_16 = _adds_taps(4), _adds_taps(8), _adds_taps(16)
