"""Passes named tuples to kernels by reference: one pointer instead of the hundred values that its arrays consist of.

A kernel that is really called gets every array of a tuple as seven values, which costs more than most kernels do, and
compiles slowly. `by_reference` puts the tuple into memory once; its members are then read as `scene.lights`, as before,
and only where they are used.
"""

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.datamodel import models, register_default
from numba.core.typing.templates import AttributeTemplate
from numba.extending import infer_getattr, intrinsic, lower_getattr_generic


class ByReference(types.Type):
    """Numba type of a reference to a value of the named tuple type `value`; `lasting` if it never changes."""

    def __init__(self, value, lasting) -> None:
        self.value, self.lasting = value, lasting
        super().__init__(f"reference({value}, {lasting})")


@register_default(ByReference)
class _Model(models.PrimitiveModel):
    def __init__(self, manager, reference) -> None:
        super().__init__(manager, reference, manager.lookup(reference.value).get_value_type().as_pointer())


@infer_getattr
class _Members(AttributeTemplate):
    key = ByReference

    def generic_resolve(self, reference, name):
        fields = reference.value.fields
        return reference.value[fields.index(name)] if name in fields else None


@lower_getattr_generic(ByReference)
def _load_member(context, builder, reference, pointer, name):
    return _load(builder, cgutils.gep_inbounds(builder, pointer, 0, reference.value.fields.index(name)), reference.lasting)


def _load(builder, pointer, lasting):
    """The value at `pointer`, read field by field, so that LLVM removes unused ones."""
    kind = pointer.type.pointee
    if isinstance(kind, ir.Aggregate):
        count = kind.count if isinstance(kind, ir.ArrayType) else len(kind.elements)
        whole = ir.Constant(kind, ir.Undefined)
        for k in range(count):
            whole = builder.insert_value(whole, _load(builder, cgutils.gep_inbounds(builder, pointer, 0, k), lasting), k)
        return whole
    value = builder.load(pointer)
    if lasting:
        value.set_metadata("invariant.load", builder.module.add_metadata([]))
    return value


def _into_memory(value, lasting):
    def codegen(context, builder, signature, arguments):
        return cgutils.alloca_once_value(builder, arguments[0])

    return ByReference(value, lasting)(value), codegen


@intrinsic
def by_reference(typingctx, value):
    """A reference to the named tuple `value`, valid until the calling kernel returns. For values made once."""
    return _into_memory(value, True)


@intrinsic
def by_passing_reference(typingctx, value):
    """The same for values made in a loop: valid until the next one is made at the same place."""
    return _into_memory(value, False)
