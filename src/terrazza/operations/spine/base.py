"""What an operation is, and the table of all of them.

An operation is declared once: a dotted name, a title, a Pydantic ``Params``
(title, unit, range, default and help on each field), what it reads and writes, and
``run``.  Sheet, field book, recipe and command line all work from that declaration.
"""

from functools import cache
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from terrazza.core.progress import Progress
from terrazza.errors import NotFound, ParamsError, TerrazzaError

STEPS = ("Import", "Register", "Georeference", "Clean", "Colorize", "Classify", "Draw", "Deliver")
GROUPS = (*STEPS, "Table")

Figures = dict[str, Any]


class Params(BaseModel):
    """Parameters of an operation; unknown names are refused."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, str_max_length=4000)


Triple = Annotated[list[float], Field(min_length=3, max_length=3)]  # a place: three coordinates
Pair = Annotated[list[float], Field(min_length=2, max_length=2)]  # a place in plan, or in a view


def field(
    title: str,
    default: Any = ...,
    unit: str = "",
    help: str = "",
    widget: str = "",
    blank: str = "",
    role: str = "",
    **limits: Any,
) -> Any:
    """A parameter with its ``title``, ``unit``, range (ge, gt, le, lt) and ``help``; ``widget`` picks a form
    control of its own.

    ``blank`` is what forms show instead of a default that stands for no number of its own, “auto” for
    example.  ``role`` says that it names a file, “read” or “write”, which ``Job.input`` and ``Job.output``
    look after.
    """
    extra = {k: v for k, v in (("unit", unit), ("widget", widget), ("blank", blank), ("role", role)) if v}
    if callable(default):
        return Field(
            default_factory=default, title=title, description=help, json_schema_extra=extra, **limits
        )
    return Field(default, title=title, description=help, json_schema_extra=extra, **limits)


def scans_field(help: str = "Empty: all scans.") -> Any:
    """The usual choice of scans by number."""
    return field("Scans", list, help=help, widget="scans")


def touched_field(title: str = "Touched points", *, help: str, **more: Any) -> Any:
    """Places (E, N, H) that are touched in a view; none where it is not ``min_length`` of them."""
    default = () if "min_length" in more else (list,)
    return field(title, *default, unit="m", help=help, widget="touched", **{"max_length": 500} | more)


class Operation:
    """Base of all operations.

    ``reads`` and ``writes`` name kinds of facts; an entry is stale when something it read has a newer
    version; ``looks`` names those that it only takes words or checks from. ``bound_to_place``: drawn by hand
    on this job's points, so a recipe leaves it out unless asked.  ``formerly`` are names that it had before,
    ``version`` grows when parameters change, and ``brought_up`` translates older ones.  A ``light`` one
    changes a few facts at once, no columns and no files, and does not wait behind heavy ones.  One with
    ``dimensions`` reads, of the points, more than their usual columns.  ``then`` names what runs by itself
    after one that was asked for on the page, if that is known to be short.
    """

    name: ClassVar[str]
    title: ClassVar[str]
    step: ClassVar[str]
    version: ClassVar[int] = 1
    reads: ClassVar[frozenset[str]] = frozenset()
    writes: ClassVar[frozenset[str]] = frozenset()
    looks: ClassVar[frozenset[str]] = frozenset()
    formerly: ClassVar[tuple[str, ...]] = ()
    bound_to_place: ClassVar[bool] = False
    light: ClassVar[bool] = False
    tries: ClassVar[bool] = False
    dimensions: ClassVar[bool] = False
    then: ClassVar[str] = ""
    Params: ClassVar[type[Params]] = Params

    @classmethod
    def automatic(cls, job) -> dict[str, float]:
        """The values that parameters left blank would take on this job as it is, in their own units; only
        those that are known at once.
        """
        return {}

    def run(self, job, params, progress: Progress) -> Figures:
        """Do the work on ``job`` through its ``put`` and ``write_column``; returns figures, with ``says``, a
        sentence for the field book.
        """
        raise NotImplementedError

    @classmethod
    def is_light(cls, values: dict) -> bool:
        """Whether a run with these parameters changes a few facts at once, and no files."""
        return cls.light

    @classmethod
    def expected(cls, last: dict) -> float:
        """How many seconds a run will take about, by the last living entries of the job (by operation);
        infinite where that is not known.
        """
        return last[cls.name].seconds or 0.0 if cls.name in last else float("inf")

    @classmethod
    def read_alone(cls, values: dict, figures: dict) -> dict[str, list[str]]:
        """Of kinds of which a run with these parameters and figures read some facts only, their keys."""
        return {"drawing": list(map(str, values["drawings"]))} if values.get("drawings") else {}

    @classmethod
    def brought_up(cls, values: dict, version: int) -> dict:
        """Parameters as an older ``version`` wrote them, in today's form."""
        return values

    @classmethod
    def promise(cls, job, params, progress: Progress) -> dict:
        """What a deliverable will hold, before it is written: ``points``, whether that is ``exact``,
        ``bytes``, ``classes``, ``scans``, ``cuts``, names of ``files``.
        """
        raise NotImplementedError

    def preview(self, job, params, piece, progress: Progress):
        """What ``run`` would do to a piece of the points (``clean.trying.Piece``), as ``Tried``; nothing is
        written.
        """
        raise NotImplementedError

    @classmethod
    def check(cls, values: dict) -> BaseModel:
        """Validated parameters; ParamsError names the operation, the parameter, the rule and the
        value got.
        """
        try:
            return cls.Params.model_validate(values)
        except ValidationError as error:
            raise ParamsError(
                f"{cls.name}: " + "; ".join(_problem(cls, e) for e in error.errors()),
                f"See “terrazza operations {cls.name}”.",
            ) from error


def _problem(cls, error) -> str:
    place = ".".join(str(p) for p in error["loc"])
    if error["type"] == "extra_forbidden":
        return f"there is no parameter “{place}” (there are: {', '.join(cls.Params.model_fields) or 'none'})"
    got = "" if error["type"] == "missing" else f", got {error.get('input')!r}"
    return f"“{place}”: {error['msg'].removeprefix('Value error, ')}{got}"


_table: dict[str, type[Operation]] = {}
_former: dict[str, str] = {}


def operation(cls: type[Operation]) -> type[Operation]:
    """Class decorator: enter an operation into the table."""
    for name in (cls.name, *cls.formerly):
        if known(name) is not None:
            raise TerrazzaError(f"Two operations are named {name}.")
    if cls.step not in GROUPS:
        raise TerrazzaError(f"{cls.name} belongs to no step.")
    _table[cls.name] = cls
    _former.update(dict.fromkeys(cls.formerly, cls.name))
    return cls


def all_operations() -> list[type[Operation]]:
    """Every operation, in the order of the steps; then those of the table."""
    return sorted(_table.values(), key=lambda o: (GROUPS.index(o.step), o.name))


def find(name: str) -> type[Operation]:
    """The operation of that name; NotFound offers the nearest names."""
    found = known(name)
    if found is None:
        import difflib

        near = difflib.get_close_matches(name, _table, 3, 0.4)
        raise NotFound(
            f"There is no operation “{name}”.",
            f"Did you mean {' or '.join(near)}?" if near else "“terrazza operations” lists them.",
        )
    return found


def known(name: str) -> type[Operation] | None:
    """The operation that has or had that name, None where there is none (any more)."""
    return _table.get(_former.get(name, name))


def checked(name: str, values: dict, version: int | None = None) -> BaseModel:
    """Validated parameters of a named operation, those of an older version brought up first."""
    cls = find(name)
    old = version is not None and version < cls.version
    return cls.check(cls.brought_up(dict(values), version) if old else values)


def title(name: str) -> str:
    """The title of an operation; its name in quotes where there is none (any more)."""
    operation = known(name)
    return operation.title if operation else f"“{name}”"


def describe(cls: type[Operation]) -> dict:
    """Name, title, step, help, and every parameter with type, unit, range, default and help."""
    about = _described(cls)
    return about | {"params": [dict(row) for row in about["params"]]}


@cache
def _described(cls: type[Operation]) -> dict:
    schema = cls.Params.model_json_schema()
    required = set(schema.get("required", ()))
    rows = []
    for name, prop in schema.get("properties", {}).items():
        kind = prop.get("$ref") and schema["$defs"][prop["$ref"].rsplit("/", 1)[1]] or prop
        options = [o for o in prop.get("anyOf", ()) if o.get("type") != "null"]
        kind = {**(options[0] if options else {}), **kind}
        rows.append(
            {
                "name": name,
                "title": prop.get("title", name),
                "type": kind.get("type", "object"),
                "choices": kind.get("enum") or ([kind["const"]] if "const" in kind else None),
                "unit": prop.get("unit", ""),
                "help": prop.get("description", ""),
                "widget": prop.get("widget", ""),
                "blank": prop.get("blank", ""),
                "role": prop.get("role", ""),
                "required": name in required,
                "optional": "anyOf" in prop,
                "default": None if name in required else _plain_default(cls, name),
                **{
                    k: kind[j]
                    for k, j in (
                        ("ge", "minimum"),
                        ("le", "maximum"),
                        ("gt", "exclusiveMinimum"),
                        ("lt", "exclusiveMaximum"),
                    )
                    if j in kind
                },
            }
        )
    return {
        "name": cls.name,
        "title": cls.title,
        "step": cls.step,
        "version": cls.version,
        "help": (cls.__doc__ or "").strip(),
        "bound_to_place": cls.bound_to_place,
        "params": rows,
    }


def _plain_default(cls, name):
    value = cls.Params.model_fields[name].get_default(call_default_factory=True)
    return (
        value.model_dump()
        if isinstance(value, BaseModel)
        else [v.model_dump() if isinstance(v, BaseModel) else v for v in value]
        if isinstance(value, list)
        else value
    )
