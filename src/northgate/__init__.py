"""North Gate: a planning table for cloud network engineers."""

import os

__version__ = "0.2.0"

# NumPy and SciPy start a pool of threads for linear algebra when they are loaded. The engine's matrices are small:
# where cores are busy, handing 5 x 5 of them to a pool takes hundreds of times as long as the work. So one thread, in
# every process, before either is loaded.
for _library in ("OPENBLAS", "MKL", "BLIS", "OMP", "VECLIB_MAXIMUM"):
    os.environ[f"{_library}_NUM_THREADS"] = "1"

# No plugins of Pydantic are looked for: that would read what is known of every package that is installed.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
