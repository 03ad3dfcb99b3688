"""Pages of headings, paragraphs and tables, written as HTML and PDF with the same figures."""

import os

from terrazza.files import whole
from terrazza.later import later
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job

with later():
    from terrazza.formats import report, report_pdf

ENDINGS = (".html", ".pdf")


def written(job: Job, path: str, title: str, blocks: list) -> Figures:
    """Write blocks under a title, as the ending of ``path`` says or, without one, both ways; enter the files
    into the deliverables.
    """
    base, ending = os.path.splitext(path)
    kinds = [ending.lower()] if ending.lower() in ENDINGS else list(ENDINGS)
    base = base if ending.lower() in ENDINGS else path
    paths = []
    for kind in kinds:
        full = job.output(base + kind, kind)
        if kind == ".pdf":
            report_pdf.to_pdf(full, title, blocks)
        else:
            with whole(full) as partial, open(partial, "w", encoding="utf-8") as out:
                out.write(report.to_html(title, blocks))
        job.deliver(full, format=kind[1:].upper())
        paths.append(full)
    return {"says": " and ".join(os.path.basename(p) for p in paths), "path": paths[-1], "paths": paths}
