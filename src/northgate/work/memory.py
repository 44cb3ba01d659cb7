"""A bound for the memory of a process, so that a question that takes too much of it fails, and not the program."""

import os
import resource
from pathlib import Path

# What a control group gives to the processes in it, where there is one: of version 2, and of version 1.
GROUPS = (Path("/sys/fs/cgroup/memory.max"), Path("/sys/fs/cgroup/memory/memory.limit_in_bytes"))
# Addresses that are set aside and hardly used: the stacks of threads, what is loaded, what is kept free for growth.
ASIDE = 6 * 2**30


def bound_memory() -> int:
    """From now on this process, and those that it starts, are refused memory (MemoryError) that the machine, or its
    control group, does not have; the bound in bytes."""
    bound = memory_of_machine() + ASIDE
    _, most = resource.getrlimit(resource.RLIMIT_AS)
    bound = bound if most == resource.RLIM_INFINITY else min(bound, most)
    resource.setrlimit(resource.RLIMIT_AS, (bound, most))
    return bound


def memory_of_machine() -> int:
    """The memory (bytes) that there is for this process and all others."""
    here = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    return min([here, *(given for path in GROUPS if (given := _given(path)) is not None)])


def _given(path: Path) -> int | None:
    try:
        text = path.read_text().strip()
    except OSError:
        return None
    return int(text) if text.isdigit() else None


def bound_data(most_bytes: int) -> None:
    """From now on this process is refused more data than it has and so many bytes (MemoryError); where the system does
    not tell how much it has, it is not bounded."""
    has = _data_of_process()
    if has is None:
        return
    _, most = resource.getrlimit(resource.RLIMIT_DATA)
    bound = has + most_bytes
    resource.setrlimit(resource.RLIMIT_DATA, (bound if most == resource.RLIM_INFINITY else min(bound, most), most))


def _data_of_process() -> int | None:
    """The memory (bytes) that this process has for itself and may write to."""
    try:
        lines = Path("/proc/self/status").read_text().splitlines()
    except OSError:
        return None
    return next((int(line.split()[1]) * 1024 for line in lines if line.startswith("VmData:")), None)
