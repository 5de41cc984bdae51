"""What becomes of a build's add-ons: whether they are on the machine, and whether it has what they need."""

from __future__ import annotations

from kyklon.catalogue.add_on_records import AddOn
from kyklon.model.card import SETUP_SCRIPT
from kyklon.model.findings import Remedy
from kyklon.operations.boot import first_boot
from kyklon.operations.boot.add_ons import lacking, lines, of_build, there
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.mounts import boot_files_unseen
from kyklon.operations.poweron.stages.root import root_of

ADD_ON_S = 0.2  # seconds an add-on takes to start, CP


def add_ons(bench: Bench) -> Step:
    """Nothing of it stops a start."""
    root, lamp = root_of(bench), bench.board.lamps.reading
    if root is None:
        return Step()
    moments, failures = [], []
    for each in of_build(bench.build, bench.catalogue):
        if any(question not in root.answers for question in each.questions):
            continue  # the card was read before it was chosen
        answers = dict(root.answers)
        if not there(each, answers) and each.files and (why := _not_installed(bench, each)):
            failures.append(_failure(bench, each, "system.add-on-absent", *why))
        elif lost := lacking(each, answers):
            by = f"; the package {' or '.join(each.packages)} brings it" if each.packages else ""
            cause = f"{each.name} does nothing: the image does not have {' and '.join(lost)}{by}."
            failures.append(_failure(bench, each, "system.add-on", cause, None))
        elif each.started:
            who = f" as {each.user}" if each.user else ""
            moments.append(Moment(f"{each.name} starts{who}.", lamp, ADD_ON_S))
    return Step(tuple(moments), tuple(failures))


def _not_installed(bench: Bench, add_on: AddOn) -> tuple[str, Remedy | None] | None:
    """Why an add-on whose files are not there is not put there either, and what to do; None when it is."""
    root, script = root_of(bench), bench.image.first_boot_script or SETUP_SCRIPT
    text = bench.contents.texts.get(script.lower(), "")
    own = script == SETUP_SCRIPT  # on the root, where a changed one is run again
    if root is None or (root.first_started and not own) or (own and not root.can_be_set_up):
        way = "is put there over the login" if own else "was not put there when the image first started"
        return f"{add_on.name} is not on the card: it {way}, by the setup script (`kyklon setup`).", None
    if lines(add_on) not in text:
        return f"{add_on.name} is not on the card, and {script} does not install it.", PUT_ON_CARD
    if own and first_boot.was_run(root, text):
        return f"{add_on.name} is not on the card, though {script} was run.", None
    if root.no_write or (boot_files_unseen(bench) or "\r\n" in text if not own else not first_boot.is_started(root)):
        return f"{add_on.name} is not installed: {script} is not run, or changes nothing.", None
    return None


def _failure(bench: Bench, add_on: AddOn, code: str, cause: str, remedy: Remedy | None) -> Failure:
    screen = Screen("front end", bench.image.front_end, (f"{add_on.name} does nothing",))
    return Failure("services", f"{code}:{add_on.id}", cause, remedy, screen, bench.board.lamps.idle, blocks=False)
