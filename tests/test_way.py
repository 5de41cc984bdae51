"""The way to the first game: other schools, other steps, minutes and questions."""

from __future__ import annotations

import pytest

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Card
from kyklon.demo import camper, school_fair
from kyklon.model.build import edited
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.plan.way import in_words, way
from support import Demo


def test_every_school_has_a_way_of_its_own(demo: Demo, catalogue: Catalogue) -> None:
    ways = {
        image.school: way(demo.build.with_part("image", image.id), catalogue, World()) for image in catalogue.all(Image)
    }
    assert len({tuple(step.what for step in steps) for steps in ways.values()}) == 4
    assert all(steps[0].operation == 20 for steps in ways.values())
    assert way(edited(demo.build, "parts", ()), catalogue, World()) == ()


def test_minutes_come_from_sizes_and_speeds(demo: Demo, catalogue: Catalogue) -> None:
    world = inspection.observe(demo.build, demo.folder, catalogue)
    card = catalogue.get(Card, demo.build.part("card"))
    write, *_rest, copy = way(demo.build, catalogue, world)
    assert world.source is not None
    assert world.scan is not None
    size = world.source.unpacked / 1e6
    assert write.minutes is not None
    assert copy.minutes is not None
    assert write.minutes[0] == pytest.approx((size / card.write_mb_s + size / card.read_mb_s) / 60)
    assert copy.minutes[0] == pytest.approx(sum(g.size for g in world.scan.ready) / 1e6 / card.write_mb_s / 60)
    assert way(demo.build, catalogue, World())[0].minutes is None


def test_what_is_open_is_asked_and_then_no_more(catalogue: Catalogue) -> None:
    build = camper.build(catalogue, "0" * 64)
    asks = [ask for step in way(build, catalogue, World()) for ask in step.asks]
    assert asks == ["the Wi-Fi country", "a network"]
    low, high = catalogue.get(Image, "harbour-lite").unattended_min
    fetch = next(step for step in way(build, catalogue, World()) if "fetches" in step.what)
    assert fetch.alone
    assert fetch.minutes is not None
    assert (fetch.minutes[0] > low, fetch.minutes[1] > high) == (True, True)
    build = edited(edited(build, "boot.country", "IE"), "system.wireless_name", "Lantern room")
    assert not [ask for step in way(build, catalogue, World()) for ask in step.asks]
    bare = edited(school_fair.build(), "sets.bare_metal", "")
    assert way(bare, catalogue, World())[0].asks == ("the folder of the unpacked set",)


def test_minutes_in_words() -> None:
    told = [in_words(each) for each in (None, (0.1, 0.2), (0.6, 0.6), (3.2, 3.2), (15.3, 120.4))]
    assert told == ["time not known yet", "seconds", "a minute", "3\u202fmin", "15 to 120\u202fmin"]
