"""A task in a process of its own: what it takes of time and memory is its own, and it can be ended whenever nobody wants it.

The program reads the task from its input, pickled by the service that started it: a function by name and what it is called
with. It writes what comes out as JSON, or, ending with `WRONG`, what was wrong with what was asked. It is bounded by the
system: seconds of the processor, memory, and (by itself) the length of what it writes.
"""

from __future__ import annotations

import os
import pickle
import resource
import sys

from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import Trouble

SECONDS, MEMORY, ANSWER = 10, 512 << 20, 16 << 20
"""Of the processor, bytes of memory, bytes of an answer: at most."""
WRONG, TOO_MUCH = 3, 4
"""How it ends when what was asked was wrong, or took too much."""


def main() -> int:
    """Do one task."""
    os.nice(10)
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    try:
        task, given = pickle.load(sys.stdin.buffer)
        said, code = jsontext.write(task(*given)), 0
    except MemoryError:
        return TOO_MUCH
    except Trouble as error:
        said = jsontext.write([error.code, error.sentence, error.remedy])
        code = WRONG
    if len(said) > ANSWER:
        return TOO_MUCH
    sys.stdout.buffer.write(said)
    return code


if __name__ == "__main__":
    sys.exit(main())
