"""The registration in sentences that a surveyor can sign."""

import numpy as np

from terrazza.operations.register.given import said
from terrazza.operations.register.judging import verdict
from terrazza.operations.register.looked_through import told
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

NAMED, DOUBTS = 4, 6  # weak ties and doubts that are named one by one
NONE_WEAK = "No tie is weak in any direction."


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
    out_of = [s for s in scans if job.get("left_out", s.id)]
    return [
        ("Done", _done(scans, placed, good, standing, out_of)),
        ("How good", f"{_quality(network, good, n)} {_twice(network, n)}"),
        ("How sure", _sure(network, placed, n)),
        ("Weak", _weak(network, good)),
        *_given(job, n),
        *_walks(job),
        ("Looked through", told(job) or "Nobody has signed that it was."),
        ("Doubted", _doubted(standing, [s.name for s in scans if s.pose is None and s not in out_of])),
    ]


def _given(job: Job, n: Notation) -> list[tuple[str, str]]:
    last = job.last_entries().get("register.automatic")
    told = said((last.figures or {}).get("given_wrong") or [], n) if last else ""
    return [("Given poses", told)] if told else []


def _walks(job: Job) -> list[tuple[str, str]]:
    fits = [w["fit"]["says"] for w in job.facts("walk").values() if "fit" in w]
    return [("Walks", f"{'; '.join(fits)}.")] if fits else []


def _done(scans, placed, good: list[dict], standing: dict, out_of) -> str:
    islands = {v["island"] for v in standing.values() if v["island"]} | {1}
    return (
        f"{len(placed)} of {len(scans)} scans placed"
        + (f" in {len(islands)} islands" if len(islands) > 1 else "")
        + f", held by {len(good)} cloud ties"
        + (f"; {len(out_of)} left out of the adjustment" if out_of else "")
        + "."
    )


def _quality(network: dict, good: list[dict], n: Notation) -> str:
    worst = max(good, key=lambda t: t["rms_mm"], default=None)
    return (
        f"RMS {n.residual(network['rms_mm'])} of the distances between matched surfaces where the scans now "
        f"stand, over all ties: {verdict(network['rms_mm'])}."
        + (f" The worst is {n.residual(worst['rms_mm'])}, {worst['a']} – {worst['b']}." if worst else "")
    )


def _twice(network: dict, n: Notation) -> str:
    doubles = network.get("doubles")
    if doubles is None:
        return "Double walls were not looked for."
    if not doubles:
        return "No surface shows twice."
    worst = doubles[0]
    return (
        f"{len(doubles)} surfaces show twice, the worst by {n.residual(abs(worst['offset_mm']))}, "
        f"in scans {worst['a']} and {worst['b']}."
    )


def _sure(network: dict, placed, n: Notation) -> str:
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
    loops, test = network.get("loops") or [], network.get("test")
    closes = (
        f" {len(loops)} loops of ties close to {n.residual(loops[0]['shift_mm'])} or better, the widest over "
        f"scans {', '.join(map(str, loops[0]['scans']))}."
        if loops
        else " No ties form a loop that would control them."
    )
    return sure + closes + (f" {test['says']}" if test else "")


def _weak(network: dict, good: list[dict]) -> str:
    weak = [
        f"{t['a']} – {t['b']} {t['words']} ({t['overlap']:.0%} in common)"
        for t in good
        if t["words"] != "firm"
    ]
    more = f"; and {len(weak) - NAMED} more" if len(weak) > NAMED else ""
    told = f"{len(weak)} ties: {'; '.join(weak[:NAMED])}{more}." if weak else NONE_WEAK
    advice = network.get("advice")
    return told + (f" {advice}" if advice else "")


def _doubted(standing: dict, alone: list[str]) -> str:
    doubts = [f"{k}: {v['doubt']}" for k, v in standing.items() if v["doubt"]]
    more = ["…"] if len(doubts) > DOUBTS else []
    unplaced = [f"Not placed: {', '.join(alone)}."] if alone else []
    return " ".join([*doubts[:DOUBTS], *more, *unplaced]) or "Nothing."
