"""Whether every system runs at full speed on the board, and what helps where one drops."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QFileDialog, QVBoxLayout, QWidget

from kyklon.app.pages.tab_view import SystemView, side_px
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Sheet, button, label, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.kept import Kept
from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of
from kyklon.catalogue.records import Board
from kyklon.operations.tuning.rates import rate_words
from kyklon.operations.tuning.speed import SPARE, Help, Speed, cost_from_log, helps, on_boards, speeds, with_cost

_TOKENS = {"fine": "teal", "marginal": "amber", "no": "red"}
_THEN = {
    "fine": "runs at full speed",
    "marginal": "seldom drops below full speed",
    "no": "still drops below full speed",
}
_ON = {"fine": "full speed", "marginal": "rare drops", "no": "drops"}
_WORDS = {"fine": "full speed", "marginal": "some drops", "no": "drops below full speed"}


class SpeedPlot(Instrument):
    """A bar a system: what a frame takes of the time it has, its spread, and the line it must stay below."""

    least = QSize(420, 240)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Frame time of every system")
        self._speeds: tuple[Speed, ...] = ()

    def show_speeds(self, found: tuple[Speed, ...]) -> None:
        if not self.shows(found):
            return
        self._speeds = found
        told = [f"{e.system.name} {_WORDS[e.verdict]}: {e.mean_ms:.1f} of {e.frame_ms:.1f} ms" for e in found]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._speeds:
            self.say(painter, box, "Choose a board and systems in Plan.")
            return
        name, said = px(98), px(124)
        room = box.width() - name - said - px(16)
        most = max(1.15, *(speed.most_ms / speed.frame_ms for speed in self._speeds)) * 1.03
        top = box.top() + px(26)
        pitch = min(px(84), (box.bottom() - top - px(30)) / len(self._speeds))

        def x(share: float) -> float:
            return box.left() + name + share / most * room

        bottom = top + pitch * len(self._speeds)
        for share in (0.0, 0.5, 1.0):
            self.line(painter, QPointF(x(share), top), QPointF(x(share), bottom), "grid")
            self.text(
                painter,
                QPointF(x(share), bottom + px(10)),
                f"{100 * share:.0f}\u202f%",
                token="muted",
                font=self.theme.mono("small"),
                align=Qt.AlignmentFlag.AlignHCenter,
            )
        self.line(painter, QPointF(x(1 - SPARE), top - px(4)), QPointF(x(1 - SPARE), bottom), "ink", 1.4)
        self.text(
            painter,
            QPointF(x(1 - SPARE), top - px(12)),
            "must be ready by here",
            font=self.theme.font("small"),
            align=Qt.AlignmentFlag.AlignHCenter,
        )
        for index, each in enumerate(self._speeds):
            y = top + index * pitch
            self.text(
                painter, QRectF(box.left(), y, name, pitch), each.system.name, font=self.theme.font("body", weight=600)
            )
            high = min(px(18), pitch * 0.42)
            begun = 0.0
            for number, (_part, ms) in enumerate(each.parts):
                bar = QRectF(x(begun), y + pitch / 2 - high / 2, x(ms / each.frame_ms) - x(0), high)
                self.block(painter, bar, "teal_soft" if number % 2 == 0 else "field", "teal", radius=1)
                begun += ms / each.frame_ms
            end = each.most_ms / each.frame_ms
            middle = y + pitch / 2
            self.line(painter, QPointF(x(begun), middle), QPointF(x(end), middle), "ink", 1.2)
            self.line(painter, QPointF(x(end), middle - px(5)), QPointF(x(end), middle + px(5)), "ink", 1.2)
            self._draw_verdict(painter, QRectF(box.right() - said, y, said, pitch), each)
        self.text(
            painter,
            QPointF(x(0), bottom + px(26)),
            "share of the frame time; whisker: 99 of 100 frames",
            font=self.theme.font("small"),
            token="muted",
        )

    def _draw_verdict(self, painter: QPainter, box: QRectF, speed: Speed) -> None:
        px, token = self.theme.px, _TOKENS[speed.verdict]
        at = QPointF(box.left() + px(6), box.center().y() - px(8))
        painter.setPen(QPen(self.theme.color(token), 1.2))
        painter.setBrush(self.theme.color(token))
        if speed.verdict == "fine":
            painter.drawEllipse(at, px(4.5), px(4.5))
        elif speed.verdict == "marginal":
            painter.drawPolygon(
                QPolygonF([at + QPointF(0, -px(5)), at + QPointF(px(5.5), px(4.5)), at + QPointF(-px(5.5), px(4.5))])
            )
        else:
            painter.drawRect(QRectF(at.x() - px(4.5), at.y() - px(4.5), px(9), px(9)))
        line = QRectF(at.x() + px(12), at.y() - px(10), box.width() - px(20), px(20))
        self.text(painter, line, _WORDS[speed.verdict], font=self.theme.font("label", weight=600), token=token)
        how = ", measured" if speed.measured else ""
        self.text(
            painter,
            line.translated(0, px(17)),
            f"{speed.mean_ms:.1f}\u202fms{how}",
            token="muted",
            font=self.theme.mono("small"),
        )


class SpeedView(SystemView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.plot = SpeedPlot(self.theme)
        self.instrument = self.plot
        sheet = Sheet("Frame by frame", "emulation time as a share of each frame")
        sheet.add(self.plot)
        self._side = Sheet("What helps")
        self._tips = QVBoxLayout()
        self._tips.setSpacing(8)
        self._kept = Kept[QWidget](self._tips)
        self._about = label("", "", wrap=True)
        self._log = button("Read a frame-time log…", self._on_log_clicked)
        self._side.add(
            self._about,
            self._tips,
            1,
            self._log,
            label("A log from the machine overrides these figures: one time in ms per line.", "small", wrap=True),
        )
        self._side.setFixedWidth(side_px(self.theme, 12))
        whole = row(sheet, self._side, spacing=14)
        whole.setStretch(0, 1)
        self.setLayout(whole)

    def refresh(self) -> None:
        """Override."""
        build, catalogue, world = self.build, self.session.catalogue, self.session.world
        found = speeds(build, catalogue, world)
        self.plot.show_speeds(found)
        speed = next((each for each in found if each.system.id == self.system_id), None)
        if speed is None:
            self._about.setText("")
            self._kept.show(())
            return
        board = catalogue.find(Board, build.part("board"))
        parts = ", ".join(f"{name.lower()} {ms:.1f}\u202fms" for name, ms in speed.parts)
        room = f"room for {speed.ahead}" if speed.ahead else "no room for any"
        ahead = f" Frames ahead: {room}." if speed.emulator.frames_ahead else ""
        heavy = f" Below full speed: {', '.join(speed.heavy[:3])}." if speed.heavy else ""
        told = rate_words(build, catalogue, world, self.system_id)
        boards = "; ".join(
            f"{each.name}: {_ON[verdict]}" for each, verdict in on_boards(build, catalogue, speed.system, world)
        )
        self._about.setText(
            f"{speed.system.name} on {board.name if board else 'the board'} at {speed.mhz:.0f}\u202fMHz: {parts}; "
            f"a frame has {speed.frame_ms:.1f}\u202fms.{ahead}{heavy}\n\n{told}\n\nBy board: {boards}."
        )
        self._kept.show((tip, lambda tip=tip: self._tip(tip)) for tip in helps(build, catalogue, world, speed))

    def _tip(self, tip: Help) -> QWidget:
        if tip.change is None:
            return label(f"{tip.words}: then it {_THEN[tip.verdict]}; {tip.why}", "small", wrap=True)
        holder = QWidget()
        inside = QVBoxLayout(holder)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(2)
        path, value = tip.change
        inside.addWidget(button(tip.words, lambda: self.session.edit(path, value, tip.words), "outline"))
        inside.addWidget(label(f"then it {_THEN[tip.verdict]}; {tip.why[:1].lower()}{tip.why[1:]}", "small", wrap=True))
        return holder

    def _on_log_clicked(self) -> None:
        path, _kind = QFileDialog.getOpenFileName(self, "Frame times of one system", str(self.session.folder))
        if path:
            self.read_log(Path(path))

    def read_log(self, path: Path) -> None:
        """Take what frames took from a log of the system that is looked at."""
        build, catalogue = self.build, self.session.catalogue
        found = speeds(build, catalogue, self.session.world)
        speed = next((each for each in found if each.system.id == self.system_id), None)
        board = build.part("board")
        if speed is None or board is None:
            return
        try:
            text = bytes_of(path).decode("utf-8", "replace")
            cost = cost_from_log(text, board, speed.emulator.id, speed.mhz)
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Measured frame times", with_cost(build, cost))
        self.session.said.emit(f"{cost.frames} frames read: {cost.mean_ms:.1f} ms on average.")
