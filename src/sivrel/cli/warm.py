"""`sivrel warm`: compile everything ahead."""

import time
from pathlib import Path

import click

from .common import Reporter, json_option, output_path, print_result


@click.command(short_help="Compile the renderer ahead of its first use.")
@click.option("--export", "export_", metavar="FILE.zip", help="Then write the compiled kernels to an archive.")
@click.option("--import", "import_", metavar="FILE.zip", help="First read compiled kernels from an archive that you trust.")
@json_option
def warm(export_: str | None, import_: str | None, as_json: bool) -> None:
    """Compile all kernels, for an image or an installer. Archives are valid for the same processor and versions, and refused elsewhere."""
    from ..core.kernel_archive import export_kernels, import_kernels
    from ..core.kernel_cache import kernel_folder
    from ..shot import warm_up

    out = output_path(export_, (".zip",), "The archive is a zip file; name it {name}.") if export_ else None
    imported = import_kernels(Path(import_)) if import_ else 0
    begun, report = time.monotonic(), Reporter()
    warm_up(report)
    report.done()
    seconds, exported = time.monotonic() - begun, export_kernels(out) if out else 0
    result = {"folder": str(kernel_folder()), "seconds": seconds, "imported": imported, "exported": exported, "archive": str(out) if out else None}
    print_result(as_json, result, lambda: f"compiled in {seconds:.1f} s; the kernels are in {kernel_folder()}" + (f" and in {out}" if out else ""))
