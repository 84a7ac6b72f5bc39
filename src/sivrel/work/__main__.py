"""A worker process: `python -m sivrel.work DATA [PIPE]`.

PIPE is a file descriptor whose other end the parent holds. It is watched before anything else is imported: a parent may end
during the imports, and a worker without a parent must not stay alive.
"""

import os
import sys
import threading


def end_with(pipe: int) -> None:
    """End this process when the other end of a pipe is closed, at any point: finished tiles are on disk."""
    while os.read(pipe, 1):
        pass
    os._exit(0)


if len(sys.argv) > 2:
    threading.Thread(target=end_with, args=(int(sys.argv[2]),), daemon=True).start()

from .worker import main  # noqa: E402

sys.exit(main(sys.argv[1]))
