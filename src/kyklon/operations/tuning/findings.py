"""What the settings say against the build."""

from __future__ import annotations

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.catalogue.system_records import Emulator, System
from kyklon.catalogue.text_records import TuningSetting, Workaround
from kyklon.model.build import Build, Value
from kyklon.model.findings import Change, Finding, Remedy, Severity
from kyklon.model.world import World
from kyklon.operations.tuning.cascade import effective, with_unit
from kyklon.operations.tuning.speed import helps, speeds

OPERATION = 70


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    found = [*_too_slow(build, catalogue, world), *_workarounds(build, catalogue), *_own_pictures(build, catalogue)]
    display = catalogue.find(Display, build.part("display"))
    for system_id in build.systems:
        system = catalogue.find(System, system_id)
        if system is None:
            continue
        rows = {
            row.setting.id: row
            for row in effective(catalogue.all(TuningSetting), build.tuning, system_id, emulator=system.emulator)
        }
        ahead = int(rows["frames-ahead"].value)
        emulator = catalogue.get(Emulator, system.emulator)
        if ahead > system.lag_frames:
            found.append(_too_far(build, system, ahead))
        elif ahead and not emulator.frames_ahead:
            found.append(
                _note(
                    f"tuning.no-frames-ahead:{system.id}",
                    system.name,
                    f"{emulator.name} cannot run frames ahead",
                    f"The setting of {ahead} frames for {system.name} has no effect.",
                    "The latency does not change.",
                )
            )
        if display and display.tube and int(rows["scanline-percent"].value) > 0:
            found.append(
                _note(
                    f"tuning.scanlines:{system.id}",
                    system.name,
                    "A tube has its own scanlines",
                    f"{rows['scanline-percent'].value} % darker scanlines only dim {system.name}.",
                    "Set it to 0 %.",
                )
            )
    return found


def _too_slow(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    """Systems that do not hold their rate on the board."""
    found = []
    for speed in speeds(build, catalogue, world):
        if speed.verdict == "fine":
            continue
        tips = helps(build, catalogue, world, speed)
        tip = next((each for each in tips if each.change is not None and each.verdict == "fine"), None)
        remedy = None
        if tip is not None and tip.change is not None:
            path, value = tip.change
            change = Change(path=path, value=value, label=tip.words, before=speed.verdict, after=tip.verdict)
            remedy = Remedy(label=tip.words, changes=(change,))
        some = "not always" if speed.verdict == "marginal" else "not"
        found.append(
            Finding(
                code=f"tuning.speed:{speed.system.id}",
                severity=Severity.NOTE if speed.verdict == "marginal" else Severity.CAUTION,
                operation=OPERATION,
                subject=speed.system.name,
                title=f"{speed.system.name} does {some} reach full speed",
                message=f"The frame budget is {speed.frame_ms:.1f} ms. Emulation takes {speed.mean_ms:.1f} ms "
                f"on average, and over {speed.most_ms:.1f} ms in 1 of 100 frames.",
                why="A late frame is repeated: the picture stutters and the sound breaks up.",
                source="measured on the machine" if speed.measured else "cost figures in the catalogue",
                remedy=remedy,
            )
        )
    return found


def _workarounds(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Notes that apply to the build as it is."""
    found = []
    board, image = build.part("board") or "", build.part("image") or ""
    for note in catalogue.all(Workaround):
        if (note.boards and board not in note.boards) or (note.images and image not in note.images):
            continue
        setting = catalogue.find(TuningSetting, note.setting)
        for system_id in build.systems:
            system = catalogue.find(System, system_id)
            if (
                setting is None
                or system is None
                or (note.systems and system_id not in note.systems)
                or (note.emulators and system.emulator not in note.emulators)
            ):
                continue
            rows = effective((setting,), build.tuning, system_id, emulator=system.emulator)
            value = rows[0].value
            if value == note.value or (note.when is not None and value != note.when):
                continue
            found.append(_workaround(build, note, system, setting, value))
    return found


def _workaround(build: Build, note: Workaround, system: System, setting: TuningSetting, value: Value) -> Finding:
    before, after = with_unit(setting, value), with_unit(setting, note.value)
    systems = _with(build.tuning.systems, system.id, note.setting, note.value)
    change = Change(path="tuning.systems", value=systems, label=setting.name, before=before, after=after)
    return Finding(
        code=f"tuning.workaround:{note.id}:{system.id}",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject=system.name,
        title=note.name,
        message=f"{note.effect} {setting.name} is {before} for {system.name}.",
        why=note.note or "A known bug; this setting works around it.",
        source=note.source or "a note in the catalogue",
        remedy=Remedy(label=f"{setting.name}: {after}", changes=(change,)),
    )


def _own_pictures(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Games whose picture is not their system's, and which settings of their own follow from that."""
    found = []
    for raster in build.picture.games:
        system_id, _, title = raster.game.partition("/")
        system = catalogue.find(System, system_id)
        if system is None or system_id not in build.systems or (raster.height > raster.width) == system.vertical:
            continue
        own = build.tuning.games.get(raster.game, {})
        if "rotate-picture" in own:
            continue
        turn = "as made" if system.vertical else "quarter left"
        games = _with(build.tuning.games, raster.game, "rotate-picture", turn)
        change = Change(path="tuning.games", value=games, label="Rotation", before="as its system", after=turn)
        found.append(
            Finding(
                code=f"tuning.turned:{raster.game}",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject=title,
                title=f"{title} has another orientation than its system",
                message=f"Its picture is {raster.width} × {raster.height}; {system.name} is made for "
                f"{system.width} × {system.height}.",
                why="Without its own setting the picture lies on its side.",
                remedy=Remedy(label=f"Turn it: {turn}", changes=(change,)),
            )
        )
    return found


def _with(layer: dict[str, dict[str, Value]], key: str, setting: str, value: Value) -> dict[str, dict[str, Value]]:
    found = {each: dict(values) for each, values in layer.items()}
    found.setdefault(key, {})[setting] = value
    return found


def _note(code: str, subject: str, title: str, message: str, why: str) -> Finding:
    return Finding(
        code=code, severity=Severity.NOTE, operation=OPERATION, subject=subject, title=title, message=message, why=why
    )


def _too_far(build: Build, system: System, ahead: int) -> Finding:
    systems = {key: dict(values) for key, values in build.tuning.systems.items()}
    systems.setdefault(system.id, {})["frames-ahead"] = system.lag_frames
    change = Change(
        path="tuning.systems",
        value=systems,
        label=f"Frames ahead, {system.name}",
        before=f"{ahead} frames",
        after=f"{system.lag_frames} frames",
    )
    return Finding(
        code=f"tuning.frames-ahead:{system.id}",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject=system.name,
        title=f"{system.name} runs too many frames ahead",
        message=f"{ahead} frames ahead, but its games lag by {system.lag_frames}.",
        why="Running further ahead than the game's own lag makes the picture jump.",
        remedy=Remedy(label=f"Run {system.lag_frames} frames ahead", changes=(change,)),
    )
