"""Ten thousand random damages of at most 3 % of a pack, each mended; and what parity costs."""

from __future__ import annotations

import os
import random
import time

from tests.unit.storage.test_stripes import HEAD, harmed, made, reach

from good_tide.storage.stripes import Striped, mended, shape_for

_TRIES = int(os.environ.get("TRIES", "10000"))
_MIB = 1 << 20


def main() -> None:
    """Print how many damages were mended, and the cost."""
    rng, failed, begun = random.Random(1), 0, time.perf_counter()
    done = 0
    for length, part in ((300_000, 0.5), (_MIB, 0.2), (3 * _MIB, 0.2), (32 * _MIB, 0.1)):
        data = made(rng.randbytes(length))
        for _ in range(round(_TRIES * part)):
            failed += mended(harmed(data, rng, reach(shape_for(length))), HEAD, len(data)) != data
            done += 1
        print(f"{done:,} damages, {failed} not mended, {time.perf_counter() - begun:.0f} s", flush=True)
    for length in (300_000, _MIB, 8 * _MIB, 32 * _MIB):
        body = os.urandom(length)
        begun = time.perf_counter()
        for _ in range(5):
            striped = Striped(length)
            striped.buffer[:length] = body
            size = len(striped.file(HEAD))
        seconds = (time.perf_counter() - begun) / 5
        print(f"{length:>10,} bytes: +{size / length - 1:.1%}, {1000 * seconds:.1f} ms")


if __name__ == "__main__":
    main()
