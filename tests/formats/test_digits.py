"""Lines of numbers against the formatting of the language."""

import numpy as np
import pytest

from terrazza.formats import digits


@pytest.mark.parametrize("places", [0, 1, 4, 9])
@pytest.mark.parametrize("mark", [" ", ",", "\t"])
def test_lines_are_those_of_the_language(places, mark):
    """Rounded alike but for exact halves, which have two nearest numbers."""
    rng = np.random.default_rng(places)
    xyz = rng.uniform(-1, 1, (2000, 3)) * 10.0 ** rng.integers(-9, 6, (2000, 1))
    xyz[:3] = [[0, -0.00004, 0.99996], [-1e-12, 5_400_000.1234, -433_000.5678], [9.5, -9.5, 1]]
    whole = rng.integers(0, 65536, 2000).astype(np.uint16)
    rgb = rng.integers(0, 256, (2000, 3)).astype(np.uint8)
    made = digits.lines([(xyz, places), (whole, 0), (rgb, 0)], mark).decode()
    off = 0
    for line, a, b, c in zip(made.splitlines(), xyz, whole, rgb, strict=True):
        cells = line.split(mark)
        wanted = [f"{v:.{places}f}" for v in a] + [str(b), *map(str, c)]
        for mine, theirs in zip(cells, wanted, strict=True):
            plain = theirs.lstrip("-") if float(theirs) == 0 else theirs
            off += mine != plain
            assert abs(float(mine) - float(theirs)) <= 1.01 * 10.0**-places * (mine != plain)
            assert len(mine.partition(".")[2]) == places * ("." in plain or places > 0) * ("." in mine)
    assert off <= 3


def test_whole_numbers_may_have_decimals():
    assert digits.lines([(np.array([[7, -3]]), 2)]) == b"7.00 -3.00\n"
    assert digits.lines([(np.zeros((0, 3)), 4)]) == b""
