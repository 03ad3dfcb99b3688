"""Do the reported covariances tell the truth?  Thirty seeds of the simulated field work, registered from
nothing.

python benchmarks/covariance.py [--seeds 30] [--density 1.0]

For each seed the errors e of all free scans (rotation and shift, relative to the fixed scan) and their joint
covariance C give e' C⁻¹ e, which follows chi-square with 6 (n − 1) degrees of freedom where C is right.
"""

import argparse
import time

import numpy as np
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.register import linking, network, surface
from terrazza.core.register.plan_match import PlanShape
from terrazza.demo import build, settegradini
from terrazza.instruments.scanner import sweep


def one(seed: int, density: float, world):
    """Errors (7, 6), joint covariance (42, 42), worst position error (mm) and worst attitude error (°) of one
    field work.
    """
    work = build.field_work(seed, density)
    clouds = []
    for k, (pose, setup) in enumerate(zip(work.poses, work.setups)):
        data = sweep(world, pose, setup, epoch=k, seed=seed * 100 + k)
        clouds.append(np.stack([data["x"], data["y"], data["z"]], 1)[data["valid"]])
    faces = [surface.prepare(c) for c in clouds]
    linked = linking.link(faces, [PlanShape(f) for f in faces], {})
    if any(p is None for p in linked.poses):
        return None
    adjusted = network.solve(clouds, linked.poses, {0})
    frame = work.poses[0] @ rigid.inverse(adjusted.poses[0])
    errors = []
    for mine, true in zip(adjusted.poses[1:], work.poses[1:]):
        target = rigid.inverse(frame) @ true
        errors.append(np.r_[rigid.vector_from(mine[:3, :3] @ target[:3, :3].T), mine[:3, 3] - target[:3, 3]])
    errors = np.array(errors)
    return (
        errors,
        adjusted.joint[6:, 6:],
        np.linalg.norm(errors[:, 3:], axis=1).max() * 1000,
        np.degrees(np.linalg.norm(errors[:, :3], axis=1).max()),
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=30)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--density", type=float, default=1.0)
    args = parser.parse_args()
    world, values, free, failed = settegradini.build(), [], 0, 0
    for seed in range(args.first, args.first + args.seeds):
        started = time.time()
        result = one(seed, args.density, world)
        if result is None:
            failed += 1
            print(f"seed {seed:>3}: not all scans were placed", flush=True)
            continue
        errors, joint, position, attitude = result
        free = errors.size
        values.append(float(errors.ravel() @ np.linalg.solve(joint, errors.ravel())))
        print(
            f"seed {seed:>3}: chi-square {values[-1]:7.1f} of {free}, worst {position:.3f} mm "
            f"{attitude:.4f}°  ({time.time() - started:.0f} s)",
            flush=True,
        )
    total, dof = sum(values), free * len(values)
    low, high = stats.chi2.ppf([0.005, 0.995], dof)
    print(
        f"{len(values)} seeds, {failed} failed: sum {total:.0f}, expected {dof} (99 % between {low:.0f} and "
        f"{high:.0f}), ratio {total / dof:.3f}"
    )


if __name__ == "__main__":
    main()
