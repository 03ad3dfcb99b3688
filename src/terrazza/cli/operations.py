"""``terrazza operations``: what there is to do, with every parameter."""

import json as json_module

import typer

from terrazza.operations.spine.base import all_operations, describe, find


def register(app: typer.Typer) -> None:
    @app.command()
    def operations(
        name: str = typer.Argument("", help="One operation; empty: all."),
        json: bool = typer.Option(False, "--json", help="As JSON."),
    ) -> None:
        """List every operation with its parameters, units, ranges and help."""
        import terrazza.operations  # noqa: F401

        rows = [describe(o) for o in ([find(name)] if name else all_operations())]
        print(
            json_module.dumps(rows, indent=1, ensure_ascii=False)
            if json
            else "\n".join(_text(r) for r in rows)
        )


def _text(row: dict) -> str:
    lines = [f"{row['name']}  ({row['step']}: {row['title']})", f"    {row['help'].splitlines()[0]}"]
    for p in row["params"]:
        limits = " ".join(
            f"{word} {p[k]:g}"
            for k, word in (("ge", "from"), ("gt", "above"), ("le", "to"), ("lt", "below"))
            if k in p
        )
        kind = " | ".join(map(str, p["choices"])) if p["choices"] else p["type"]
        default = "required" if p["required"] else f"default {p['default']!r}"
        unit = f" [{p['unit']}]" if p["unit"] else ""
        lines.append(
            f"    {p['name']}{unit}: {kind}; {default}{'; ' + limits if limits else ''}. {p['title']}. "
            f"{p['help']}".rstrip()
        )
    return "\n".join(lines)
