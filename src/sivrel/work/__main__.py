"""A worker process: `python -m sivrel.work DATA [PIPE]`.

PIPE is the number of a file descriptor whose other end the parent holds. It is watched before anything else is imported: a parent may end
within the second that the imports take, and a worker without one must not live on.
"""

import os
import sys
import threading


def end_with(pipe: int) -> None:
    """End this process when the other end of a pipe is closed, wherever it is: finished tiles lie on disk."""
    while os.read(pipe, 1):
        pass
    os._exit(0)


if len(sys.argv) > 2:
    threading.Thread(target=end_with, args=(int(sys.argv[2]),), daemon=True).start()

from .worker import main  # noqa: E402

sys.exit(main(sys.argv[1]))
