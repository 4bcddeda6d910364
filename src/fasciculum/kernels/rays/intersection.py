"""One ray against eight boxes or four triangles at once: machine instructions on whole vectors."""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

#: how far beyond its edges a triangle still counts as hit, in barycentric weight, so that no ray slips between two
WATERTIGHT = 1e-6
#: a box is left this much later, so that rounding does not part what touches
LATER = 1.0000004
I32, I64 = ir.IntType(32), ir.IntType(64)
#: boxes that are met at once, as many as a node has children
BOXES = 8
FLOATS, DOUBLES = ir.VectorType(ir.FloatType(), 4), ir.VectorType(ir.DoubleType(), 4)
SIDES = ir.VectorType(ir.FloatType(), BOXES)
#: bytes of the sides of boxes along an axis, of four floats, and of four doubles
SIDE_ROW, ROW, WIDE_ROW = 4 * BOXES, 16, 32


def _spread(builder: Any, value: Any, kind: Any) -> Any:
    """Return a vector that holds one value all over."""
    nothing = ir.Constant(kind, ir.Undefined)
    one = builder.insert_element(nothing, value, ir.Constant(I32, 0))
    return builder.shuffle_vector(one, nothing, ir.Constant(ir.VectorType(I32, kind.count), [0] * kind.count))


def _load(builder: Any, address: Any, kind: Any) -> Any:
    read = builder.load(builder.inttoptr(address, kind.as_pointer()), typ=kind)
    read.align = 4
    return read


def _store(builder: Any, value: Any, address: Any) -> None:
    builder.store(value, builder.inttoptr(address, value.type.as_pointer())).align = 8


def _larger(builder: Any, one: Any, other: Any) -> Any:
    return builder.select(builder.fcmp_ordered(">", one, other), one, other)


def _smaller(builder: Any, one: Any, other: Any) -> Any:
    return builder.select(builder.fcmp_ordered("<", one, other), one, other)


def _mask(builder: Any, lanes: Any) -> Any:
    """Return a word with a bit for each lane that holds."""
    return builder.zext(builder.bitcast(lanes, ir.IntType(lanes.type.count)), I64)


@intrinsic
def meet_boxes(typing, boxes, lx, ly, lz, hx, hy, hz, ox, oy, oz, ix, iy, iz, first, last, away):
    """Return a bit for each of eight boxes that a ray meets between two distances; store where it enters them.

    ``boxes`` is the address of six rows of eight floats, lx to hz the rows in which the ray enters and leaves, ox to iz
    its origin and 1 over its direction; ``away`` is the address that eight floats are stored at.
    """
    signature = types.int64(*[types.int64] * 7, *[types.float32] * 8, types.int64)
    return signature, _build_boxes


def _build_boxes(context, builder, signature, values):
    boxes, rows, (ox, oy, oz, ix, iy, iz, first, last), away = values[0], values[1:7], values[7:15], values[15]
    origin = [_spread(builder, value, SIDES) for value in (ox, oy, oz)]
    inverse = [_spread(builder, value, SIDES) for value in (ix, iy, iz)]
    places = [builder.add(boxes, builder.mul(row, ir.Constant(I64, SIDE_ROW))) for row in rows]
    met = []
    for axis in range(6):
        row = _load(builder, places[axis], SIDES)
        met.append(builder.fmul(builder.fsub(row, origin[axis % 3]), inverse[axis % 3]))
    begin, end = _spread(builder, first, SIDES), _spread(builder, last, SIDES)
    enter = _larger(builder, _larger(builder, met[0], met[1]), _larger(builder, met[2], begin))
    leave = _smaller(builder, _smaller(builder, met[3], met[4]), _smaller(builder, met[5], end))
    _store(builder, enter, away)
    later = builder.fmul(leave, ir.Constant(SIDES, [LATER] * BOXES))
    return _mask(builder, builder.fcmp_ordered("<=", enter, later))


@intrinsic
def meet_triangles(typing, block, ox, oy, oz, dx, dy, dz, near, far, found):
    """Return a bit for each of four triangles that a ray meets between two distances.

    ``block`` is the address of nine rows of four floats: a corner and two edges. At the address ``found`` four rows of
    four doubles are stored: distance, two weights, and the side, positive from the front (Möller, Trumbore 1997).
    """
    signature = types.int64(types.int64, *[types.float64] * 8, types.int64)
    return signature, _build_triangles


def _build_triangles(context, builder, signature, values):
    block, ray, near, far, result = values[0], values[1:7], values[7], values[8], values[9]
    rows = []
    for row in range(9):
        place = builder.add(block, ir.Constant(I64, row * ROW))
        rows.append(builder.fpext(_load(builder, place, FLOATS), DOUBLES))
    corner, one, two = rows[:3], rows[3:6], rows[6:9]
    spread = [_spread(builder, value, DOUBLES) for value in ray]
    origin, way = spread[:3], spread[3:]

    def cross(a: Any, b: Any) -> list[Any]:
        pairs = (1, 2), (2, 0), (0, 1)
        return [builder.fsub(builder.fmul(a[i], b[j]), builder.fmul(a[j], b[i])) for i, j in pairs]

    def dot(a: Any, b: Any) -> Any:
        parts = [builder.fmul(x, y) for x, y in zip(a, b, strict=True)]
        return builder.fadd(builder.fadd(parts[0], parts[1]), parts[2])

    beside = cross(way, two)
    side = dot(one, beside)
    inverse = builder.fdiv(ir.Constant(DOUBLES, [1.0] * 4), side)
    off = [builder.fsub(o, c) for o, c in zip(origin, corner, strict=True)]
    u = builder.fmul(dot(off, beside), inverse)
    across = cross(off, one)
    v = builder.fmul(dot(way, across), inverse)
    t = builder.fmul(dot(two, across), inverse)
    least, most = ir.Constant(DOUBLES, [-WATERTIGHT] * 4), ir.Constant(DOUBLES, [1.0 + WATERTIGHT] * 4)
    # without an area the side is 0 and none of these holds
    held = builder.fcmp_ordered(">=", u, least)
    for kind, a, b in (
        (">=", v, least),
        ("<=", builder.fadd(u, v), most),
        (">", t, _spread(builder, near, DOUBLES)),
        ("<", t, _spread(builder, far, DOUBLES)),
        ("!=", side, ir.Constant(DOUBLES, [0.0] * 4)),
    ):
        held = builder.and_(held, builder.fcmp_ordered(kind, a, b))
    for row, value in enumerate((t, u, v, side)):
        _store(builder, value, builder.add(result, ir.Constant(I64, row * WIDE_ROW)))
    return _mask(builder, held)


@intrinsic
def address_of(typing, array):
    """Return where an array's numbers lie. Unlike its other attributes that takes no count of who holds it."""

    def build(context, builder, signature, values):
        held = context.make_array(signature.args[0])(context, builder, values[0])
        return builder.ptrtoint(held.data, I64)

    return types.int64(array), build


@intrinsic
def double_at(typing, address):
    """Return the double at an address."""

    def build(context, builder, signature, values):
        return builder.load(builder.inttoptr(values[0], ir.DoubleType().as_pointer()), typ=ir.DoubleType())

    return types.float64(types.int64), build


@intrinsic
def whole_at(typing, address):
    """Return the 32-bit whole number at an address."""

    def build(context, builder, signature, values):
        return builder.sext(builder.load(builder.inttoptr(values[0], I32.as_pointer()), typ=I32), I64)

    return types.int64(types.int64), build


@intrinsic
def bits_at(typing, address):
    """Return the 32 bits at an address; of floats that are not negative they are ordered as these are."""

    def build(context, builder, signature, values):
        return builder.zext(builder.load(builder.inttoptr(values[0], I32.as_pointer()), typ=I32), I64)

    return types.int64(types.int64), build


@intrinsic
def float_of(typing, bits):
    """Return the float that 32 bits are."""

    def build(context, builder, signature, values):
        return builder.bitcast(builder.trunc(values[0], I32), ir.FloatType())

    return types.float32(types.int64), build


@intrinsic
def lowest_bit(typing, word):
    """Return which is the lowest bit of a word that is set."""

    def build(context, builder, signature, values):
        return builder.cttz(values[0], ir.Constant(ir.IntType(1), 1))

    return types.int64(types.int64), build
