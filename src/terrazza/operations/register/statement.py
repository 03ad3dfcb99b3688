"""The registration in sentences that a surveyor can sign."""

import numpy as np

from terrazza.later import later
from terrazza.operations.register.judging import verdict
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

quality = later("terrazza.core.register.quality")


def statement(job: Job) -> list[tuple[str, str]]:
    """The registration in sentences that a surveyor can sign: (what is told, the sentence) for what is done,
    how good and how sure it is, what is weak and what is doubted.
    """
    network, n, scans = job.get("network") or {}, Notation.of(job), job.scans()
    placed = [s for s in scans if s.pose is not None]
    if len(placed) < 2 or network.get("rms_mm") is None:
        return []
    ties, standing = list(job.facts("tie").values()), job.facts("standing")
    good = [t for t in ties if not t["failed"]]
    islands = {v["island"] for v in standing.values() if v["island"]} | {1}
    out_of = [s for s in scans if job.get("left_out", s.id)]
    done = (
        f"{len(placed)} of {len(scans)} scans placed"
        + (f" in {len(islands)} islands" if len(islands) > 1 else "")
        + f", held by {len(good)} cloud ties"
        + (f"; {len(out_of)} left out of the adjustment" if out_of else "")
        + "."
    )
    worst = max(good, key=lambda t: t["rms_mm"], default=None)
    quality = (
        f"RMS {n.residual(network['rms_mm'])} of the distances between matched surfaces where the scans now "
        f"stand, over all ties: {verdict(network['rms_mm'])}."
        + (f" The worst is {n.residual(worst['rms_mm'])}, {worst['a']} – {worst['b']}." if worst else "")
    )
    sigmas = {
        s.id: float(np.sqrt(np.linalg.eigvalsh(np.array(c)[3:, 3:])[-1]) * 1000)
        for s in placed
        if (c := s.pose_record.get("covariance"))
    }
    loosest = max(sigmas, key=lambda k: sigmas[k], default=None)
    sure = (
        f"Every place is known to {n.residual(sigmas[loosest], 2)} (one σ, weakest direction, against the "
        f"scans that stay) or better; the least sure is scan {loosest}."
        if loosest
        else "No adjustment has told how sure the places are."
    )
    weak = [
        f"{t['a']} – {t['b']} {t['words']} ({t['overlap']:.0%} in common)"
        for t in good
        if t["words"] != "firm"
    ]
    doubles = network.get("doubles")
    twice = (
        "Double walls were not looked for."
        if doubles is None
        else "No surface shows twice."
        if not doubles
        else f"{len(doubles)} surfaces show twice, the worst by {n.residual(abs(doubles[0]['offset_mm']))}, "
        f"in scans {doubles[0]['a']} and {doubles[0]['b']}."
    )
    alone = [s.name for s in scans if s.pose is None and s not in out_of]
    doubts = [f"{k}: {v['doubt']}" for k, v in standing.items() if v["doubt"]]
    loops, test, advice = network.get("loops") or [], network.get("test"), network.get("advice")
    closes = (
        f" {len(loops)} loops of ties close to {n.residual(loops[0]['shift_mm'])} or better, the widest over "
        f"scans {', '.join(map(str, loops[0]['scans']))}."
        if loops
        else " No ties form a loop that would control them."
    )
    sure += closes + (f" {test['says']}" if test else "")
    return [
        ("Done", done),
        ("How good", quality + " " + twice),
        ("How sure", sure),
        (
            "Weak",
            (
                (
                    f"{len(weak)} ties: "
                    + "; ".join(weak[:4])
                    + (f"; and {len(weak) - 4} more" if len(weak) > 4 else "")
                    + "."
                )
                if weak
                else "No tie is weak in any direction."
            )
            + (f" {advice}" if advice else ""),
        ),
        (
            "Doubted",
            " ".join(
                [
                    *doubts[:6],
                    *(["…"] if len(doubts) > 6 else []),
                    *([f"Not placed: {', '.join(alone)}."] if alone else []),
                ]
            )
            or "Nothing.",
        ),
    ]
