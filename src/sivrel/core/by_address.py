"""Calls kernels by their address: caller and callee are compiled without each other, and a change of one leaves the other as it is."""

from typing import Any

from numba import types
from numba.core import cgutils
from numba.extending import intrinsic


def calling(result: types.Type, expected: dict[int, types.Type]) -> Any:
    """An intrinsic `call(address, arguments)` for kernels that return `result`. `expected`: Numba types that the caller must pass, by position;
    other types are refused when the caller is compiled, since the callee can't notice them."""

    @intrinsic  # type: ignore[untyped-decorator]
    def call(typingctx: Any, address: Any, arguments: Any) -> Any:
        kinds = arguments.types
        for position, kind in expected.items():
            if kinds[position] != kind:
                raise TypeError(f"A kernel is called by its address with {kinds[position]} instead of {kind}.")

        def codegen(context: Any, builder: Any, signature: Any, values: Any) -> Any:
            function = context.call_conv.get_function_type(result, kinds)
            pointer = builder.inttoptr(values[0], function.as_pointer())
            status, found = context.call_conv.call_function(builder, pointer, result, kinds, cgutils.unpack_tuple(builder, values[1]))
            with cgutils.if_unlikely(builder, status.is_error):
                context.call_conv.return_status_propagate(builder, status)
            return found

        return result(types.int64, arguments), codegen

    return call


def address_of(kernel: Any, kinds: tuple[types.Type, ...]) -> int:
    """The address of a called kernel for arguments of these Numba types. It is compiled, or loaded from the cache, where it was not yet."""
    if kinds not in kernel.overloads:
        kernel.compile(kinds)
    compiled = kernel.overloads[kinds]
    return int(compiled.library.get_pointer_to_function(compiled.fndesc.llvm_func_name))
