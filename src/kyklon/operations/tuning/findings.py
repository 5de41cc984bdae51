"""What the settings say against the build."""

from __future__ import annotations

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display, Emulator, System, TuningSetting
from kyklon.model.build import Build
from kyklon.model.findings import Change, Finding, Remedy, Severity
from kyklon.model.world import World
from kyklon.operations.tuning.cascade import effective

OPERATION = 70


def findings(build: Build, catalogue: Catalogue, _world: World) -> list[Finding]:
    found: list[Finding] = []
    display = catalogue.find(Display, build.part("display"))
    for system_id in build.systems:
        system = catalogue.find(System, system_id)
        if system is None:
            continue
        rows = {row.setting.id: row for row in effective(catalogue.all(TuningSetting), build.tuning, system_id)}
        ahead = int(rows["frames-ahead"].value)
        emulator = catalogue.get(Emulator, system.emulator)
        if ahead > system.lag_frames:
            found.append(_too_far(build, system, ahead))
        elif ahead and not emulator.frames_ahead:
            found.append(
                _note(f"tuning.no-frames-ahead:{system.id}", system.name, f"{emulator.name} cannot run frames ahead",
                      f"The setting of {ahead} frames for {system.name} does nothing.", "The latency is as without it.")
            )  # fmt: skip
        if display and display.tube and int(rows["scanline-percent"].value) > 0:
            found.append(
                _note(f"tuning.scanlines:{system.id}", system.name, "A tube has its own scan lines",
                      f"{rows['scanline-percent'].value} % darker scan lines only dim {system.name}.", "Set it to 0 %.")
            )  # fmt: skip
    return found


def _note(code: str, subject: str, title: str, message: str, why: str) -> Finding:
    return Finding(
        code=code, severity=Severity.NOTE, operation=OPERATION, subject=subject, title=title, message=message, why=why
    )


def _too_far(build: Build, system: System, ahead: int) -> Finding:
    systems = {key: dict(values) for key, values in build.tuning.systems.items()}
    systems.setdefault(system.id, {})["frames-ahead"] = system.lag_frames
    change = Change(
        path="tuning.systems", value=systems, label=f"Frames ahead, {system.name}",
        before=f"{ahead} frames", after=f"{system.lag_frames} frames",
    )  # fmt: skip
    return Finding(
        code=f"tuning.frames-ahead:{system.id}",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject=system.name,
        title=f"{system.name} runs too many frames ahead",
        message=f"{ahead} frames ahead, but its games lag by {system.lag_frames}.",
        why="Going further ahead than the game itself lags makes the picture jump.",
        remedy=Remedy(label=f"Run {system.lag_frames} frames ahead", changes=(change,)),
    )
