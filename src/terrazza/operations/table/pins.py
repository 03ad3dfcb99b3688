"""Put a pin."""

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.importing.photos import kept
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table.naming import free_name, name_or, need_there
from terrazza.operations.table.touch import Touch, place


class PinParams(Params):
    points: list[Touch] = field("Place", list, help="The touched point.", min_length=1, max_length=1)
    name: str = field("Name", "", max_length=100, help="Empty: “pin” and a number.")
    text: str = field("Text", "", max_length=4000)
    link: str = field("Link", "", max_length=1000, help="An address to go with it.")
    picture: str = field(
        "Picture",
        "",
        max_length=200,
        role="read",
        help="Name of a picture file in the job's inbox; it is kept with the job.",
    )
    measure: int = field("Measure", 0, ge=0, help="Number of a measure it speaks of; 0: none.")


@operation
class PutPin(Operation):
    """Puts a note at a place: text, a link, a picture, a measure."""

    name, title, step = "pins.put", "Put a pin", "Table"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"pin", "photo"})
    looks = frozenset({"measure"})
    light = True
    bound_to_place = True
    Params = PinParams

    @classmethod
    def is_light(cls, values: dict) -> bool:
        return not values.get("picture")

    def run(self, job: Job, params: PinParams, progress: Progress) -> Figures:
        if params.link and not params.link.lower().startswith(("http://", "https://")):
            raise ParamsError("A link begins with http:// or https://.", "Write the whole address.")
        if params.measure:
            need_there(job, "measure", params.measure)
        number = job.next_number("pin")
        name = name_or(job, "pin", params.name, free_name(job, "pin", number))
        touch = params.points[0].model_dump(mode="json")
        at = place(job, touch)
        job.put(
            "pin",
            number,
            {
                "name": name,
                "text": params.text,
                "link": params.link,
                "measure": params.measure,
                "point": touch,
                "picture": kept(job, params.picture, f"pin.{number}")[0] if params.picture else "",
            },
        )
        return {"says": f"{name} at {Notation.of(job).coordinate(at)}", "pin": number, "at": at.tolist()}
