"""What is sharp about a touched place of a scan, by all its kept points there."""

import numpy as np

from terrazza.later import later
from terrazza.operations.spine.job import Job

with later():
    from terrazza.core.register import sharp


def sharpened(job: Job, scan: int, touch: np.ndarray) -> "sharp.Sharp":
    """The target, corner or edge at a touched place (3,) of a scan (its frame, m); else the point."""
    cloud = job.cloud(scan)
    near = cloud.in_ball(touch, sharp.REACH)
    near = cloud.kept_of(near)
    if len(near) < sharp.FEWEST:
        return sharp.alone(touch)
    intensity = cloud.pick("intensity", near) if cloud.has("intensity") else np.zeros(len(near))
    return sharp.sharpen(sharp.about(cloud.at(near), np.asarray(intensity, float), touch), touch)
