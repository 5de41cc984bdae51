"""Assembly by window: battery and fuse, a meter's word, heat, space by mouse and keys, templates, order."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt

from app.conftest import User
from kyklon.app.pages.assembly.openings_dialog import OpeningsDialog
from kyklon.app.pages.assembly.page import HEAT, ORDER, POWER, SPACE, WIRES
from kyklon.base.errors import WrongUse
from kyklon.commands import assembly as by_command
from kyklon.commands.space import space
from kyklon.model.build import edited
from kyklon.operations.assembly.tree import feed
from kyklon.record import folder as store
from support import Demo


def test_a_battery_without_a_fuse_is_cured_by_one_click(user: User) -> None:
    page = user.open(80)
    page.show_view(POWER)
    user.pick(page, "Powered by", "battery")
    user.wait()
    assert "assembly.fuse-none" in user.stops
    user.press("AWG", page.power)
    user.wait()
    assert not [code for code in user.stops if code.startswith("assembly")]
    own = user.window.session.build.assembly
    assert own.fuse_a > 0
    assert any(name == "Run time, about" for name, _figure in page.power._more.rows + page.power._figures.rows)
    assert "Converter gets" in page.power._drawing.accessibleDescription()


def test_what_meters_say_is_taken_over(user: User) -> None:
    page = user.open(80)
    page.show_view(POWER)
    session = user.window.session
    before = feed(session.build, session.catalogue)
    assert before is not None
    page.power._volts.setValue(before.board_v - 0.1)
    user.press("Save reading", page.power)
    user.wait()
    after = feed(session.build, session.catalogue)
    assert after is not None
    assert after.board_v == pytest.approx(before.board_v - 0.1, abs=0.006)  # the field has two digits
    page.power._volts.setValue(30.0)
    user.press("Save reading", page.power)
    assert len(session.build.assembly.measured) == 1, "no meter shows that"
    page.show_view(HEAT)
    page.heat._celsius.setValue(75)
    user.press("Save reading", page.heat)
    user.wait()
    assert session.build.assembly.measured[-1].value == 75
    # 53 K above a room of 22 °C then; the room is set to 25 °C
    assert "chip 78 °C" in page.heat._section.accessibleDescription()
    user.pick(page.heat, "Load", "peak")
    user.wait()
    assert "starts throttling" in page.heat._words.text()
    user.pick(page.heat, "Heat sink", "large")
    user.wait()
    assert session.build.assembly.sink == "large"


def test_a_part_is_dragged_under_a_button_and_makes_room_again(user: User, tmp_path: Path) -> None:
    page = user.open(80)
    page.show_view(SPACE)
    user.wait()
    view, session = page.space, user.window.session
    drawing = view.drawing
    drawing.grab()
    board = drawing._space.box("board")
    assert board is not None

    def at(x: float, y: float) -> QPoint:
        return QPoint(
            round(drawing._above.left() + x * drawing._scale), round(drawing._above.bottom() - y * drawing._scale)
        )

    other = drawing._space.box("encoder")
    assert other is not None
    start = at(board.near[0] + 20, board.near[1] + 20)
    end = start + at(other.near[0], other.near[1]) - at(board.near[0], board.near[1])
    user.bot.mousePress(drawing, Qt.MouseButton.LeftButton, pos=start)
    user.bot.mouseMove(drawing, end)
    user.bot.mouseRelease(drawing, Qt.MouseButton.LeftButton, pos=end)
    user.wait()
    assert session.build.assembly.bodies[0].id == "board"
    assert drawing._clashes
    assert drawing.current == "board"
    user.press("Move", view)
    user.wait()
    assert not drawing._clashes
    drawing.setFocus()
    x = session.build.assembly.bodies[0].x
    user.bot.keyClick(drawing, Qt.Key.Key_Right)
    user.bot.keyClick(drawing, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    user.wait()
    assert session.build.assembly.bodies[0].x == x + 11
    view._fields["high"].setValue(12.0)
    user.wait()
    assert session.build.assembly.bodies[0].high == 12.0
    view.add_own("Hub")
    user.wait()
    assert session.build.assembly.bodies[-1].name == "Hub"
    user.press("Remove", view)
    user.wait()
    assert len(session.build.assembly.bodies) == 1
    view.save_templates(tmp_path)
    names = ("back-plate.pdf", "back-plate.dxf", "back-plate.svg", "panel-2.pdf", "trial-piece-page-1.pdf")
    user.bot.waitUntil(lambda: all((tmp_path / name).exists() for name in names), timeout=180_000)
    assert (tmp_path / "back-plate.pdf").read_bytes().startswith(b"%PDF")


TABLE = """connector,end,contact,other end,other contact,signal,gives V,takes V,colour
Ribbon,Old keyboard,1,Header,pin 3,row,5,3.3,grey
Ribbon,Old keyboard,2,Header,pin 9,GND,0,0,black
"""


def test_a_connector_is_read_and_ticked(user: User, tmp_path: Path) -> None:
    page = user.open(80)
    page.show_view(WIRES)
    user.wait()
    view = page.wires
    assert view.drawing._connector is not None
    assert "Tackle" in view.drawing._connector.name
    (tmp_path / "bad.csv").write_text("nothing here")
    view.read(tmp_path / "bad.csv")
    assert not user.window.session.build.assembly.connectors
    (tmp_path / "ribbon.csv").write_text(TABLE)
    view.read(tmp_path / "ribbon.csv")
    user.wait()
    assert view.drawing._connector.name == "Ribbon"
    assert any(finding.code.startswith("assembly.wires:own-1") for finding in user.window.session.findings)
    name, tick = next(iter(view._ticks.items()))
    tick.click()
    user.wait()
    assert user.window.session.build.assembly.metered == (name,)
    assert "1 of 3" in view._count.text()
    view.save_table(tmp_path / "out.csv")
    user.bot.waitUntil(lambda: (tmp_path / "out.csv").exists(), timeout=60_000)
    assert "Ribbon,Old keyboard,1" in (tmp_path / "out.csv").read_text()
    user.press("Remove", view)
    user.wait()
    assert not user.window.session.build.assembly.connectors


def test_an_opening_is_added_changed_and_removed(user: User) -> None:
    page = user.open(80)
    page.show_view(SPACE)
    user.wait()
    dialog = OpeningsDialog(user.window.session, page.space)
    dialog.keep()
    assert "needs a name" in dialog._said.text()
    dialog.name.setText("old socket")
    dialog.keep()
    dialog.fields["along"].setValue(77)
    dialog.keep()
    (opening,) = user.window.session.build.assembly.openings
    assert (opening.name, opening.along, opening.wall) == ("old socket", 77, "back")
    user.window.session.edit("assembly.sockets_held", "glue")
    dialog._offer(opening.id)
    assert "brace" in dialog._grip.text()
    dialog.drop()
    assert not user.window.session.build.assembly.openings
    dialog.deleteLater()


def test_openings_and_wires_by_commands(demo: Demo, capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    for name, mm in (("inner_wide", 414.0), ("inner_deep", 224.0), ("inner_high", 120.0)):
        store.update(demo.folder, lambda build, name=name, mm=mm: edited(build, f"assembly.{name}", mm))
    space(demo.folder, ["board=3,100"])
    assert "No opening in the left wall, 131 mm along" in capsys.readouterr().out
    space(demo.folder, opening=["slot=left:24x10@131,7:card", "old=back:d30@200,60"])
    told = capsys.readouterr().out
    assert "can be changed through the left wall" in told
    assert "old, Old: back wall, 30 mm across, unused, to be covered" in told
    space(demo.folder, turn=["board"], close=["old"])
    assert store.load(demo.folder).build.assembly.bodies[0].turned == 90
    for bad in ("slot=left:24@1,2", "slot=side:24x10@1,2", "slot=left:24x10@1,2:door"):
        with pytest.raises(WrongUse, match="no opening"):
            space(demo.folder, opening=[bad])
    with pytest.raises(WrongUse, match="already"):
        space(demo.folder, opening=["slot=left:24x10@1,2"])
    (tmp_path / "ribbon.csv").write_text(TABLE)
    assert by_command.wires(demo.folder) == 0
    assert by_command.wires(demo.folder, read=tmp_path / "ribbon.csv") == 1
    assert "kill an input" in capsys.readouterr().out
    assert by_command.wires(demo.folder, tick=["own-1/1>pin 3/through"], write=tmp_path / "out.csv") == 1
    assert "[x] Old keyboard 1" in capsys.readouterr().out
    with pytest.raises(WrongUse, match="no check"):
        by_command.wires(demo.folder, tick=["own-1/nothing"])
    assert by_command.wires(demo.folder, remove=["own-1"]) == 0


def test_the_order_is_walked_by_keys(user: User) -> None:
    page = user.open(80)
    page.show_view(ORDER)
    user.wait()
    view = page.view_at(ORDER)
    drawing = view._drawing
    drawing.setFocus()
    assert view._title.text().startswith("Write")
    for _ in range(3):
        user.bot.keyClick(drawing, Qt.Key.Key_Down)
    assert "Goggles" in view._caution.text()
    assert view._screws.rows


def test_the_same_by_commands(demo: Demo, capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    store.update(demo.folder, lambda build: edited(build, "assembly.source", "battery"))
    assert by_command.power(demo.folder) == 1
    assert "12.75 V at rest" in capsys.readouterr().out
    assert by_command.power(demo.folder, "peak", 4.7, as_json=True) == 1
    assert by_command.warmth(demo.folder) == 0
    assert "No fan is needed" in capsys.readouterr().out
    assert by_command.warmth(demo.folder, "peak") == 1
    assert space(demo.folder) == 0
    assert space(demo.folder, ["board=90,94", "encoder=95,100"]) == 1
    assert "overlap by" in capsys.readouterr().out
    assert space(demo.folder, remove=["board", "encoder"], add=["post=8x8x40@5,5,0"], fix=["post"]) == 0
    assert store.load(demo.folder).build.assembly.bodies[0].fixed
    with pytest.raises(WrongUse, match="no thing"):
        space(demo.folder, add=["post=8x8"])
    with pytest.raises(WrongUse, match="already"):
        space(demo.folder, add=["post=8x8x9"])
    assert by_command.template(demo.folder, tmp_path / "templates") == 0
    assert len(list((tmp_path / "templates").glob("*.dxf"))) == 5
    assert by_command.switch(demo.folder) == 1
    assert "Power is cut" in capsys.readouterr().out
    assert by_command.sequence(demo.folder) == 0
    assert "Screws in all" in capsys.readouterr().out
