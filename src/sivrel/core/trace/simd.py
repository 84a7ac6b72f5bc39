"""Eight-wide vector operations that the compiler does not find by itself.

Each function here is one short piece of LLVM IR over `<8 x float>`; everything that calls them is ordinary Python
compiled by Numba. On a processor without 256-bit registers LLVM splits the vectors, and the results stay the same.
"""

import platform

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

LANES = 8
"""Children of a node, and triangles of a leaf."""

F32 = ir.FloatType()
I32 = ir.IntType(32)
I64 = ir.IntType(64)
V8F = ir.VectorType(F32, LANES)
V8I1 = ir.VectorType(ir.IntType(1), LANES)
INF = float("inf")


def _pointer(context, builder, array_type, array, offset):
    """Address of element `offset` of a one-dimensional array, as a pointer to <8 x float>."""
    data = context.make_array(array_type)(context, builder, array).data
    return builder.bitcast(builder.gep(data, [offset]), ir.PointerType(V8F))


def _load(context, builder, array_type, array, offset):
    return builder.load(_pointer(context, builder, array_type, array, offset), align=4)


def _splat(builder, scalar):
    first = builder.insert_element(ir.Constant(V8F, ir.Undefined), scalar, I32(0))
    return builder.shuffle_vector(first, ir.Constant(V8F, ir.Undefined), ir.Constant(ir.VectorType(I32, LANES), [0] * LANES))


def _constant(value):
    return ir.Constant(V8F, [value] * LANES)


def _larger(builder, a, b):
    return builder.select(builder.fcmp_ordered(">", a, b), a, b)


def _smaller(builder, a, b):
    return builder.select(builder.fcmp_ordered("<", a, b), a, b)


def _bits(builder, mask):
    return builder.zext(builder.bitcast(mask, ir.IntType(LANES)), I64)


def _reduce(builder, name, vector):
    """llvm.vector.reduce.<name> of a float vector (every lane is a number here)."""
    fn = cgutils.get_or_insert_function(builder.module, ir.FunctionType(F32, [V8F]), f"llvm.vector.reduce.{name}.v8f32")
    return builder.call(fn, [vector])


@intrinsic
def slabs8(typingctx, nodes, base, near_x, near_y, near_z, ox, oy, oz, ix, iy, iz, t_near, t_far, out):
    """Ray against the eight child boxes of a node: returns a bit per child that is entered within [t_near, t_far],
    and writes the entry distances to `out[0:8]`.

    `nodes` holds, from `base`, the planes x-low, x-high, y-low, y-high, z-low, z-high, eight floats each; `near_*` is 0
    when the ray goes up that axis and 8 when it goes down, so that near and far planes are loaded and not sorted.
    The far distance is widened by two rounding errors so that no box is missed that holds a hit (Ize 2013,
    "Robust BVH Ray Traversal", eq. 4).
    """
    f, u = types.float32, types.uint64
    signature = types.uint64(nodes, u, u, u, u, f, f, f, f, f, f, f, f, out)

    def codegen(context, builder, sig, args):
        node_array, first, nx, ny, nz, rox, roy, roz, rix, riy, riz, low, high, distances = args
        enter, leave = _splat(builder, low), _splat(builder, high)
        for axis, (near, origin, inverse) in enumerate(((nx, rox, rix), (ny, roy, riy), (nz, roz, riz))):
            at = builder.add(first, I64(axis * 2 * LANES))
            near_at = builder.add(at, near)
            far_at = builder.sub(builder.add(at, I64(LANES)), near)
            o, i = _splat(builder, origin), _splat(builder, inverse)
            for offset, is_near in ((near_at, True), (far_at, False)):
                plane = _load(context, builder, sig.args[0], node_array, offset)
                t = builder.fmul(builder.fsub(plane, o), i)
                if is_near:
                    enter = _larger(builder, t, enter)
                else:
                    leave = _smaller(builder, builder.fmul(t, _constant(1.0000004)), leave)
        builder.store(enter, _pointer(context, builder, sig.args[13], distances, I64(0)), align=4)
        return _bits(builder, builder.fcmp_ordered("<=", enter, leave))

    return signature, codegen


@intrinsic
def triangles8(typingctx, leaves, base, kx, ky, kz, ox, oy, oz, sx, sy, sz, t_near, t_far):
    """Ray against the eight triangles of a leaf: (lane, t, b1, b2) of the nearest hit, lane 8 when there is none.

    Watertight: Woop, Benthin & Wald 2013, "Watertight Ray/Triangle Intersection". `leaves` holds, from `base`, the nine
    coordinates v0x v0y v0z v1x … v2z, eight floats each. `k*` are the axis permutation times 8 and `s*` the shear of
    the ray. No operation may be fused: two triangles that share an edge must round its test alike, so this code
    carries no fast-math flags. b1 and b2 are the barycentric weights of v1 and v2.
    """
    f, u = types.float32, types.uint64
    signature = types.Tuple((types.uint64, f, f, f))(leaves, u, u, u, u, f, f, f, f, f, f, f, f)

    def codegen(context, builder, sig, args):
        leaf_array, first, px, py, pz, rox, roy, roz, rsx, rsy, rsz, low, high = args
        origin = [_splat(builder, o) for o in (rox, roy, roz)]
        shear = [_splat(builder, s) for s in (rsx, rsy, rsz)]
        xs, ys, zs = [], [], []
        for vertex in range(3):
            at = builder.add(first, I64(vertex * 3 * LANES))
            moved = [
                builder.fsub(_load(context, builder, sig.args[0], leaf_array, builder.add(at, k)), o)
                for k, o in zip((px, py, pz), origin, strict=True)
            ]
            xs.append(builder.fsub(moved[0], builder.fmul(shear[0], moved[2])))
            ys.append(builder.fsub(moved[1], builder.fmul(shear[1], moved[2])))
            zs.append(builder.fmul(shear[2], moved[2]))
        weights = []
        for a, b in ((2, 1), (0, 2), (1, 0)):
            weights.append(builder.fsub(builder.fmul(xs[a], ys[b]), builder.fmul(ys[a], xs[b])))
        zero = _constant(0.0)
        none_negative = none_positive = None
        for w in weights:
            above, below = builder.fcmp_ordered(">=", w, zero), builder.fcmp_ordered("<=", w, zero)
            none_negative = above if none_negative is None else builder.and_(none_negative, above)
            none_positive = below if none_positive is None else builder.and_(none_positive, below)
        determinant = builder.fadd(builder.fadd(weights[0], weights[1]), weights[2])
        inside = builder.and_(builder.or_(none_negative, none_positive), builder.fcmp_ordered("!=", determinant, zero))
        total = builder.fmul(weights[0], zs[0])
        for w, z in zip(weights[1:], zs[1:], strict=True):
            total = builder.fadd(total, builder.fmul(w, z))
        inverse = builder.fdiv(_constant(1.0), builder.select(inside, determinant, _constant(1.0)))
        t = builder.fmul(total, inverse)
        inside = builder.and_(inside, builder.fcmp_ordered(">", t, _splat(builder, low)))
        inside = builder.and_(inside, builder.fcmp_ordered("<", t, _splat(builder, high)))
        t = builder.select(inside, t, _constant(INF))
        nearest = _reduce(builder, "fmin", t)
        is_nearest = builder.and_(inside, builder.fcmp_ordered("==", t, _splat(builder, nearest)))
        # A ninth bit makes "no lane" come out as lane 8.
        bits = builder.or_(_bits(builder, is_nearest), I64(1 << LANES))
        lane = builder.cttz(bits, ir.Constant(ir.IntType(1), 1))
        safe = builder.trunc(builder.and_(lane, I64(LANES - 1)), I32)
        b1, b2 = (builder.extract_element(builder.fmul(weights[k], inverse), safe) for k in (1, 2))
        return context.make_tuple(builder, sig.return_type, (lane, nearest, b1, b2))

    return signature, codegen


@intrinsic
def lowest_bit(typingctx, bits):
    """Index of the lowest set bit of a non-zero 64-bit word."""

    def codegen(context, builder, sig, args):
        return builder.cttz(args[0], ir.Constant(ir.IntType(1), 1))

    return types.uint64(types.uint64), codegen


@intrinsic
def highest_bit(typingctx, bits):
    """Index of the highest set bit of a non-zero 64-bit word."""

    def codegen(context, builder, sig, args):
        return builder.sub(I64(63), builder.ctlz(args[0], ir.Constant(ir.IntType(1), 1)))

    return types.uint64(types.uint64), codegen


@intrinsic
def reverse_bits32(typingctx, word):
    """The 32 bits of `word` in reverse order."""

    def codegen(context, builder, sig, args):
        return builder.bitreverse(args[0])

    return types.uint32(types.uint32), codegen


@intrinsic
def cycles(typingctx):
    """The processor's time stamp, uint64: for measuring where time goes. 0 where user programs may not read it."""

    def codegen(context, builder, sig, args):
        if platform.machine() not in ("x86_64", "AMD64"):
            return I64(0)
        return builder.call(builder.module.declare_intrinsic("llvm.readcyclecounter", (), ir.FunctionType(ir.IntType(64), ())), ())

    return types.uint64(), codegen
