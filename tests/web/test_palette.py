"""Class colours are told apart with every common colour blindness, and from the paper they lie on.

CIEDE2000 (CIE 142-2001) and the simulations of Machado, Oliveira and Fernandes 2009 (doi
10.1109/TVCG.2009.113) are the library's.
"""

import re
from itertools import combinations

import pytest
from coloraide import Color

from tests.conftest import ROOT

PALETTE = ROOT / "src" / "terrazza" / "web" / "static" / "js" / "palette.js"
TOLD_APART = (1, 2, 3, 4, 5, 6, 7, 9, 11, 14, 17, 64, 65, 66, 67, 68, 69)
LEAST, ON_PAPER = 12.0, 8.0


def colours():
    line = re.search(r"CLASSES = \{(.*?)\}", PALETTE.read_text(), re.S)[1]
    return {int(code): Color(value) for code, value in re.findall(r'(\d+): "(#\w{6})"', line)}


@pytest.mark.parametrize("seen", ["", "protan", "deutan", "tritan"])
def test_classes_are_told_apart(seen):
    shown = {c: v.filter(seen, 1, method="machado") if seen else v for c, v in colours().items()}
    paper = Color("#f5f1e8").filter(seen, 1, method="machado") if seen else Color("#f5f1e8")
    near = {(a, b): shown[a].delta_e(shown[b], method="2000") for a, b in combinations(TOLD_APART, 2)}
    assert LEAST <= min(near.values()) < 20, min(near, key=near.get)
    assert min(shown[c].delta_e(paper, method="2000") for c in TOLD_APART) > ON_PAPER


def test_most_are_told_apart_in_grey_print():
    light = sorted(colours()[c].convert("lab")["l"] for c in TOLD_APART)
    assert light[-1] - light[0] > 75 and sum(b - a > 1.0 for a, b in zip(light, light[1:])) >= 13
