"""The rooms of the program, which imports which, as a picture: `python docs/make_rooms.py` writes docs/rooms.png.

Rooms, sizes and imports are read from the code; a number counts the files that import. An arrow to a room that is not
below would be red.
"""

from __future__ import annotations

import ast
from collections import Counter
from pathlib import Path

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "greenstep"
FLOORS = (("cli",), ("work",), ("draw", "store", "bench", "ports"), ("core",))
WHAT = {
    "cli": "words, options, what a person sees",
    "work": "what a program can do: boards, runs, batches, surveys",
    "draw": "figures",
    "store": "files: project, images, journal, kits",
    "bench": "simulated boards and chips",
    "ports": "the system's serial ports",
    "core": "no input or output, no clock, no interface",
}
CORE = (
    ("engine", "findings", "survey", "plan", "batch"),
    ("dialects", "hookup", "clock", "trace", "console"),
    ("chips", "families", "loaders", "image", "journal", "safety"),
)
INK, QUIET, PAPER, INNER, RED = "#22303c", "#8a97a3", "#eef3ee", "#ffffff", "#b5403a"


def room_of(path: Path) -> str:
    return path.relative_to(SOURCE).parts[0]


def imports() -> Counter[tuple[str, str]]:
    """How many files of a room import from another."""
    found: Counter[tuple[str, str]] = Counter()
    for path in SOURCE.rglob("*.py"):
        if path.parent == SOURCE:
            continue
        own = ["greenstep", *path.relative_to(SOURCE).parts[:-1]]
        rooms = set()
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ImportFrom):
                base = own[: len(own) - node.level + 1] if node.level else []
                name = [*base, *(node.module or "").split(".")]
                if name[0] == "greenstep" and len(name) > 1 and name[1] in WHAT:
                    rooms.add(name[1])
        found.update((room_of(path), room) for room in rooms - {room_of(path)})
    return found


def files_and_lines(folder: Path) -> str:
    paths = list(folder.rglob("*.py"))
    lines = sum(len(path.read_text("utf-8").splitlines()) for path in paths)
    return f"{len(paths)} files, {lines / 1000:.1f} k lines"


def box(
    axes: Axes, place: tuple[float, float, float, float], title: str, text: str, colour: str, size: int = 12
) -> None:
    left, bottom, width, height = place
    axes.add_patch(Rectangle((left, bottom), width, height, facecolor=colour, edgecolor=INK, lw=1.2))
    axes.text(left + 0.012, bottom + height - 0.014, title, va="top", fontsize=size, weight="bold", color=INK)
    if text:
        axes.text(
            left + 0.012, bottom + height - 0.046, text, va="top", fontsize=size - 3, color=INK, linespacing=1.35
        )


def main() -> None:
    figure = Figure((12.8, 8.0), dpi=100)
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.axis("off")
    axes.set_xlim(0, 1)
    axes.set_ylim(0, 1)
    found = imports()
    places: dict[str, tuple[float, float, float, float]] = {}
    top = 0.97
    for rooms, height in zip(FLOORS, (0.12, 0.12, 0.14, 0.44), strict=True):
        width = (0.94 - 0.02 * (len(rooms) - 1)) / len(rooms)
        for index, room in enumerate(rooms):
            places[room] = (0.03 + index * (width + 0.02), top - height, width, height)
        top -= height + 0.04
    for room, place in places.items():
        used = ", ".join(f"{other} {number}" for (one, other), number in sorted(found.items()) if one == room)
        text = f"{WHAT[room]}\n{files_and_lines(SOURCE / room)}" + (f"\nimport {used}" if used else "")
        box(axes, place, f"{room}/", text, PAPER)
    left, bottom, width, height = places["core"]
    for row, names in enumerate(CORE):
        each = (width - 0.024 - 0.012 * (len(names) - 1)) / len(names)
        for column, name in enumerate(names):
            at = left + 0.012 + column * (each + 0.012), bottom + 0.012 + (2 - row) * 0.108
            box(axes, (*at, each, 0.096), f"{name}/", files_and_lines(SOURCE / "core" / name), INNER, 11)
    floor = {room: number for number, rooms in enumerate(FLOORS) for room in rooms}
    for one, other in found:
        if floor[other] - floor[one] in (1, 0, -1, -2, -3):
            arrow(axes, places, one, other, floor[one] < floor[other])
    path = ROOT / "docs" / "rooms.png"
    figure.savefig(path)
    print(path)


def arrow(axes: Axes, places: dict[str, tuple[float, float, float, float]], one: str, other: str, down: bool) -> None:
    """From a room to one below it; to any other room in red."""
    narrow = min((places[one], places[other]), key=lambda place: place[2])
    across = narrow[0] + narrow[2] / 2
    start, end = places[one][1], places[other][1] + places[other][3]
    style = {"arrowstyle": "-|>", "color": QUIET if down else RED, "lw": 1.6, "shrinkA": 0, "shrinkB": 0}
    axes.annotate("", xy=(across, end), xytext=(across, start), arrowprops=style)


if __name__ == "__main__":
    main()
