"""What makes the way from switch to glass shorter: ranked by the milliseconds won against what each costs and risks."""

from __future__ import annotations

from dataclasses import dataclass, replace

from kyklon.base.numbers import whole
from kyklon.base.quantities import counted, show_money
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display, Encoder
from kyklon.catalogue.system_records import Emulator, System
from kyklon.catalogue.text_records import TuningSetting
from kyklon.model.build import Build, Value, edited
from kyklon.model.findings import Change, Remedy
from kyklon.model.kernel_line import word_values
from kyklon.model.world import World
from kyklon.operations.picture.ranges import adapters_of
from kyklon.operations.tuning.cascade import effective
from kyklon.operations.tuning.latency import Way, shares, total
from kyklon.operations.tuning.speed import clock_of, speed_of

FASTEST_POLL_MS = 1.0  # USB 2.0, 5.7.4: the shortest interval at full speed
POLL_WORD = "usbhid.jspoll"  # ms between questions to a stick (kernel-parameters)
_MS_FOR_MONEY = 0.05  # ms that an invented coin is held to be worth, to rank by
_MS_FOR_RISK = {"none": 0.0, "little": 2.0, "some": 6.0}  # ms that a risk is held to be worth, CP


@dataclass(frozen=True)
class Shorter:
    """won_ms: on average. cost, risk: in words. remedy: None for what is bought or done by hand."""

    words: str
    won_ms: float
    cost: str
    risk: str
    rank: float
    remedy: Remedy | None = None


@dataclass(frozen=True)
class Case:
    """A system on its way, with the settings and the rate that hold."""

    way: Way
    values: dict[str, Value]
    rate: float
    poll_ms: float

    @property
    def mean(self) -> float:
        return total(shares(self.way, self.values, self.rate)).mean


def case_of(build: Build, catalogue: Catalogue, system: System) -> Case | None:
    """The way of a system in the build; None without encoder or display."""
    encoder = catalogue.find(Encoder, build.part("encoder"))
    display = catalogue.find(Display, build.part("display"))
    emulator = catalogue.find(Emulator, system.emulator)
    if encoder is None or display is None or emulator is None:
        return None
    board = catalogue.find(Board, build.part("board"))
    rows = effective(catalogue.all(TuningSetting), build.tuning, system.id, emulator=emulator.id)
    told = word_values(" ".join(build.boot.kernel_words), POLL_WORD)
    poll = (whole(told[-1]) if told else None) or encoder.poll_ms
    if encoder.link == "usb":
        encoder = encoder.model_copy(update={"poll_ms": min(poll, encoder.poll_ms)})
    way = Way(
        system, emulator, encoder, adapters_of(build, catalogue), display, clock_of(build, board) if board else 1000.0
    )
    rate = float(build.system_mode(system.id).timing.vertical_hz)
    return Case(way, {row.setting.id: row.value for row in rows}, rate, encoder.poll_ms)


def shorter(build: Build, catalogue: Catalogue, world: World, system: System) -> tuple[Shorter, ...]:
    """What shortens the way of a system, the best first."""
    case = case_of(build, catalogue, system)
    if case is None:
        return ()
    found = [*_by_settings(build, catalogue, world, case), *_by_poll(build, case), *_by_parts(build, catalogue, case)]
    return tuple(sorted((each for each in found if each.won_ms > 0.05), key=lambda each: -each.rank))


def _by_settings(build: Build, catalogue: Catalogue, world: World, case: Case) -> list[Shorter]:
    found = []
    board = catalogue.find(Board, build.part("board"))
    names = {each.id: each.name for each in catalogue.all(TuningSetting)}

    def offer(key: str, value: Value, words: str, cost: str, risk: str) -> None:
        won = case.mean - replace(case, values=case.values | {key: value}).mean
        systems = {each: dict(values) for each, values in build.tuning.systems.items()}
        systems.setdefault(case.way.system.id, {})[key] = value
        after = edited(build, "tuning.systems", systems)
        kind = _RISKS[risk]
        if board is not None:
            before = speed_of(build, catalogue, case.way.system, (board, clock_of(build, board)), world).verdict
            then = speed_of(after, catalogue, case.way.system, (board, clock_of(build, board)), world).verdict
            if then != "fine" and before != then:
                return  # it would no longer run at full speed
        change = Change(
            path="tuning.systems", value=systems, label=names[key], before=f"{case.values[key]}", after=f"{value}"
        )
        found.append(Shorter(words, won, cost, risk, won - _MS_FOR_RISK[kind], Remedy(label=words, changes=(change,))))

    lag, ahead = case.way.system.lag_frames, int(case.values["frames-ahead"])
    if case.way.emulator.frames_ahead:
        for frames in range(ahead + 1, lag + 1):
            offer(
                "frames-ahead",
                frames,
                f"{counted(frames, 'frame')} ahead",
                "processor time",
                "a wrong guess shows for one frame",
            )
    queue = int(case.values["render-queue-frames"])
    if queue > 1:
        offer("render-queue-frames", 1, "One frame in the queue", "nothing", "a slow board stutters")
    if case.values["vertical-sync"]:
        offer("vertical-sync", False, "Turn V-sync off", "nothing", "the picture tears")
    return found


_RISKS = {"a wrong guess shows for one frame": "little", "a slow board stutters": "little", "the picture tears": "some"}


def _by_poll(build: Build, case: Case) -> list[Shorter]:
    if case.way.encoder.link != "usb" or case.poll_ms <= FASTEST_POLL_MS:
        return []
    faster = case.way.encoder.model_copy(update={"poll_ms": FASTEST_POLL_MS})
    won = case.mean - replace(case, way=replace(case.way, encoder=faster)).mean
    words = tuple(word for word in build.boot.kernel_words if not word.startswith(f"{POLL_WORD}="))
    change = Change(
        path="boot.kernel_words",
        value=[*words, f"{POLL_WORD}=1"],
        label="Extra kernel parameters",
        before=f"every {case.poll_ms:g} ms",
        after="every 1 ms",
    )
    label = "Poll the encoder every millisecond"
    risk = won - _MS_FOR_RISK["little"]
    return [
        Shorter(
            label, won, "a kernel parameter", "an encoder may not keep up", risk, Remedy(label=label, changes=(change,))
        )
    ]


def _by_parts(build: Build, catalogue: Catalogue, case: Case) -> list[Shorter]:
    found = []
    for other in catalogue.all(Encoder):
        if other.link != "usb" or other.id == case.way.encoder.id or other.players < case.way.encoder.players:
            continue
        won = case.mean - replace(case, way=replace(case.way, encoder=other)).mean
        if won > 1:
            costs = show_money(other.price)
            found.append(
                Shorter(
                    f"{other.name} instead of {case.way.encoder.name}",
                    won,
                    costs,
                    "rewiring",
                    won - other.price * _MS_FOR_MONEY - _MS_FOR_RISK["some"],
                )
            )
    for adapter in case.way.adapters:
        if adapter.delay_ms:
            rest = tuple(each for each in case.way.adapters if each is not adapter)
            won = case.mean - replace(case, way=replace(case.way, adapters=rest)).mean
            found.append(
                Shorter(
                    f"Another adapter than {adapter.name}",
                    won,
                    "an adapter without a frame buffer",
                    "the signals must still match",
                    won - _MS_FOR_RISK["some"],
                )
            )
    display = case.way.display
    if display.processing_ms:
        found.append(
            Shorter(
                f"Switch {display.name}'s picture processing off",
                display.processing_ms / 2,
                "its own menu",
                "the gain is unknown until measured",
                display.processing_ms / 2 - _MS_FOR_RISK["little"],
            )
        )
    return found


def suits(system: System, mean_ms: float) -> str:
    """Whether the system's games stand a latency, in words."""
    if mean_ms <= system.tolerance_ms * 0.75:
        return "suits its games"
    return "its quickest games feel it" if mean_ms <= system.tolerance_ms else "its games suffer"
