"""What the last alignment of strips found, as it stands on the sheet and in the report."""

from dataclasses import dataclass

import numpy as np

from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

ALIKE = 0.7  # correlation from which two unknowns are told to look alike
MOST = 60  # pairs of passes that are listed


@dataclass(frozen=True)
class StripsTold:
    """``unknowns``: rows (what, value, σ) in words; ``words`` beside; ``pairs``: rows (passes, misfit before
    and after, afterwards in plan and in height, in the job's small unit); ``bars``: by pair how many misfits
    lie between ``edges_mm``.
    """

    unknowns: list[tuple[str, str, str]]
    words: list[str]
    pairs: list[tuple[str, str, str, str, str]]
    edges_mm: list[float]
    bars: dict[str, list[int]]


def strips_told(job: Job) -> StripsTold | None:
    """Of the last alignment that stands; None where there was none."""
    entry = job.last_entries().get("register.strips")
    figures = (entry and entry.figures) or {}
    if "angles_mdeg" not in figures:
        return None
    n = Notation.of(job)
    small = lambda v: "–" if v is None else n.small(v, 1)
    worst = sorted(figures["after_mm"], key=lambda k: -figures["after_mm"][k])[:MOST]
    pairs = []
    for name in worst:
        after = figures["after_apart_mm"].get(name) or {}
        both = figures["before_mm"].get(name), figures["after_mm"][name]
        pairs.append((name.replace("-", " – "), *map(small, (*both, after.get("plan"), after.get("height")))))
    histograms = figures["histograms"]
    words = [", ".join(figures["read"]), *_alike(figures)]
    words += ["Not applied."] * (not entry.params.get("apply", True))
    bars = {k: v for k, v in histograms["counts"].items() if k in worst}
    return StripsTold(_unknowns(figures, n), words, pairs, histograms["edges_mm"], bars)


def _unknowns(figures: dict, n: Notation) -> list[tuple[str, str, str]]:
    sigma = lambda v, form: "given" if v is None else form(v)
    rows = [
        (name, f"{value / 1000:.4f}°", sigma(s, lambda v: f"{v / 1000:.4f}°"))
        for name, value, s in zip(("Roll", "Pitch", "Heading"), figures["angles_mdeg"], figures["sigma_mdeg"])
    ]
    if "sigma_lever_mm" in figures:
        levers = zip("xyz", figures["lever_mm"], figures["sigma_lever_mm"])
        rows += [(f"Lever arm {a}", f"{n.small(v, 0)} {n.small_short}", n.small(s, 0)) for a, v, s in levers]
    if "range_scale_ppm" in figures:
        both = (f"{figures[k]:.0f} ppm" for k in ("range_scale_ppm", "sigma_range_scale_ppm"))
        rows.append(("Range scale", *both))
    largest = max((float(np.linalg.norm(v)) for v in figures["shifts_mm"]), default=0.0)
    if largest:
        rows.append(("Largest shift of a pass", f"{n.small(largest, 0)} {n.small_short}", ""))
    return rows


def _alike(figures: dict) -> list[str]:
    """Pairs of unknowns that the passes hardly tell apart."""
    names, values = figures["unknowns"], np.abs(np.array(figures["correlation"], float))
    return [
        f"{names[i].capitalize()} and {names[k]} look alike: correlation {values[i, k]:.2f}."
        for i in range(len(names))
        for k in range(i + 1, len(names))
        if values[i, k] > ALIKE
    ]
