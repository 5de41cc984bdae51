"""The demo builds by name, each made where the next start finds it again."""

from __future__ import annotations

from pathlib import Path

from kyklon.base.errors import WrongUse
from kyklon.base.places import demo_folder
from kyklon.base.progress import Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.demo import camper, lighthouse, school_fair
from kyklon.demo.folders import make_current

DEMOS = {"lighthouse": lighthouse, "camper": camper, "school-fair": school_fair}


def kept_demo(name: str, catalogue: Catalogue, watch: Watch) -> Path:
    """The folder of a demo, made if this version has not made it yet. Raises WrongUse, Cancelled."""
    made = DEMOS.get(name)
    if made is None:
        raise WrongUse(f"Unknown demo: {name!r}.", do=f"There are: {', '.join(DEMOS)}.")
    place = demo_folder(made.NAME)
    make_current(made.make, place, catalogue, watch)
    return place
