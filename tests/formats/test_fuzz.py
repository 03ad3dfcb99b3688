"""A small seeded sample of the mutations of ``benchmarks/fuzz.py``: refused in words, or taken and the job
whole.
"""

import importlib.util
from pathlib import Path

import pytest

SPEC = importlib.util.spec_from_file_location("fuzz", Path(__file__).parents[2] / "benchmarks" / "fuzz.py")
fuzz = importlib.util.module_from_spec(SPEC)
SPEC.loader.exec_module(fuzz)


@pytest.fixture(scope="module")
def seeds(tmp_path_factory):
    folder = tmp_path_factory.mktemp("fuzz")
    (folder / "seeds").mkdir()
    return str(folder), fuzz.seeds(str(folder / "seeds"))


@pytest.mark.parametrize("part", range(4))
def test_mutated_files_are_refused_in_words_or_taken_whole(seeds, part):
    folder, files = seeds
    assert len(files) >= 18, "every kind of file is tried"
    results, failures = fuzz.work((folder, files, range(20_000 + part, 20_000 + 80, 4), part))
    assert failures == [] and sum(results.values()) == 20
