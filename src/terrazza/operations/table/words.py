"""Measures in words."""

from terrazza.operations.spine.notation import Notation


def told(n: Notation, kind: str, f: dict) -> str:
    """A measure's main figures in the job's notation."""
    deg, one = lambda v: f"{n.number(v, 2)}°", lambda v: n.length(v)
    if kind == "point":
        return n.coordinate([f["x"], f["y"], f["z"]])
    if kind == "distance":
        return (
            f"{one(f['distance'])} · level {one(f['level'])} · height {one(f['height'])} · slope "
            f"{deg(f['slope_deg'])}"
        )
    if kind == "length":
        return f"{one(f['length'])} · level {one(f['level'])} · height {one(f['height'])}"
    if kind == "area":
        return (
            f"{n.length(f['area'], True)} · level {n.length(f['level_area'], True)} · round "
            f"{one(f['perimeter'])}"
        )
    if kind == "angle":
        return f"{deg(f['angle_deg'])} · level {deg(f['level_angle_deg'])}"
    if kind == "above ground":
        return f"{one(f['height_above_ground'])} over {f['ground_points']} ground points"
    if kind == "wall to wall":
        return f"{one(f['distance'])} · {deg(f['not_parallel_deg'])} from parallel"
    start = "" if kind == "plane" else f"radius {one(f['radius'])} ± {n.residual(f['sigma'] * 1000)} · "
    lean = f" · {deg(f['from_vertical_deg'])} from the vertical" if "from_vertical_deg" in f else ""
    return f"{start}RMS {n.residual(f['rms'] * 1000)} over {f['points']} points{lean}"


def listed(n: Notation, figures: dict) -> str:
    """All single figures of a measure with their names, in the job's notation."""

    def written(name, value):
        if isinstance(value, int):
            return str(value)
        if name.endswith("_deg"):
            return f"{n.number(value, 3)}°"
        return (
            n.residual(value * 1000, 2)
            if name in {"rms", "sigma"}
            else n.length(value, name.endswith("area"))
        )

    return "; ".join(
        f"{name.removesuffix('_deg').replace('_', ' ')} {written(name, value)}"
        for name, value in figures.items()
        if isinstance(value, (int, float))
    )
