"""Builds and plans side by side: parts, price, current, delay, and which stops each has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kyklon.base.quantities import show, show_money
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.assembly.budget import budget
from kyklon.operations.picture.chain import chain_of
from kyklon.operations.plan.parts_list import parts_list
from kyklon.operations.plan.planned import stops_of
from kyklon.operations.plan.solve import Plan
from kyklon.operations.plan.wishes import known_name, wish_of


@dataclass(frozen=True)
class Compared:
    """parts: role and id. price: of what is not at hand. peak_a: amps of the whole machine, usable_a: what the supply
    gives with headroom, both 0 where nobody knows. delay_ms: from board to glass. stops: how many rules stand against
    it."""

    title: str
    parts: tuple[tuple[str, str], ...]
    price: float
    peak_a: float
    usable_a: float
    delay_ms: float
    stops: int


def compared(title: str, build: Build, catalogue: Catalogue, plan: Plan | None = None) -> Compared:
    """A build as a column. The price of a plan holds its cables; that of a build is what its parts list asks."""
    power = budget(build, catalogue)
    display = catalogue.find(Display, build.part("display"))
    delay = chain_of(build, catalogue, World()).delay_ms + (display.processing_ms if display is not None else 0.0)
    return Compared(
        title,
        tuple((part.role, part.part) for part in build.parts),
        round(plan.price if plan is not None else _parts_price(build, catalogue), 2),
        round(power.peak_a, 3) if power else 0.0,
        round(power.usable_a, 3) if power else 0.0,
        round(delay, 1),
        len(stops_of(build, catalogue, wish_of(build, catalogue))),
    )


def _parts_price(build: Build, catalogue: Catalogue) -> float:
    """Parts and cables that are still to be bought, as a plan counts them: without what nobody counts."""
    lines = parts_list(build, catalogue).lines
    return sum(line.cost for line in lines if not line.key.startswith("extra/") or line.key == "extra/bundle")


def as_table(columns: Sequence[Compared], catalogue: Catalogue) -> list[str]:
    """One line a role, one column a build; "=" where a column is as the first."""
    roles = list(dict.fromkeys(role for column in columns for role, _part in column.parts))
    rows = [["", *(column.title for column in columns)]]
    for role in roles:
        names = [dict(column.parts).get(role, "") for column in columns]
        told = ["=" if number and name == names[0] else _named(name, catalogue) for number, name in enumerate(names)]
        rows.append([role, *told])
    rows.append(["to buy", *(show_money(column.price, 2) for column in columns)])
    rows.append(["peak", *(show(column.peak_a, "A") if column.peak_a else "–" for column in columns)])
    rows.append(["supply", *(show(column.usable_a, "A") if column.usable_a else "–" for column in columns)])
    rows.append(["delay", *(f"{column.delay_ms:.0f}\u202fms" for column in columns)])
    rows.append(["stops", *(str(column.stops or "none") for column in columns)])
    wide = [max(len(row[number]) for row in rows) for number in range(len(columns) + 1)]
    return ["  ".join(cell.ljust(width) for cell, width in zip(row, wide, strict=True)).rstrip() for row in rows]


def _named(part: str, catalogue: Catalogue) -> str:
    return known_name(catalogue, part) if part else "–"
