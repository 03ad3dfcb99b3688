"""An office's own layers for what is drawn."""

from dataclasses import asdict

from terrazza.core.progress import Progress
from terrazza.formats import layers
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class LayersParams(Params):
    path: str = field(
        "Layer table",
        "",
        role="read",
        help="Text with a heading: layer, and where wanted for (whose lines go onto it), colour (#rrggbb or "
        "1 to 255), line type, text height (m). Empty: layers as they are drawn.",
    )


@operation
class Layers(Operation):
    """Reads an office's layer table: DXF files and views then have its names, colours, line types and text
    heights; drawings keep what they are.
    """

    name, title, step = "draw.layers", "Layers of the office", "Draw"
    writes = frozenset({"layer"})
    Params = LayersParams

    def run(self, job: Job, params: LayersParams, progress: Progress) -> Figures:
        rows = layers.read(job.input(params.path, "The layer table")) if params.path else []
        for of in list(job.facts("layer")):
            job.put("layer", of, None)
        for row in rows:
            job.put("layer", row.of, {k: v for k, v in asdict(row).items() if k != "of"})
        return {
            "says": f"{len(rows)} layers of the office" if rows else "Layers as they are drawn",
            "layers": len(rows),
        }
