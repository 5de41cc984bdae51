"""What nobody holds any more is freed by the GUI thread, however much the others make meanwhile."""

import gc
import threading
import weakref

from pytestqt.qtbot import QtBot

from kyklon.app.session.jobs import Jobs


class _Ring:
    """An object that holds itself, as a widget and its slot do."""

    def __init__(self) -> None:
        self.me = self


def test_rings_are_freed_where_widgets_live(qtbot: QtBot) -> None:
    freed: list[threading.Thread] = []
    jobs = Jobs()
    other = Jobs()  # of a second window
    for _each in range(2000):
        weakref.finalize(_Ring(), lambda: freed.append(threading.current_thread()))

    worker = threading.Thread(target=lambda: [[number] for number in range(200_000)])
    worker.start()
    worker.join()
    qtbot.waitUntil(lambda: bool(freed), timeout=60_000)
    assert set(freed) == {threading.main_thread()}
    other.stop_all()
    other.stop_all()
    assert not gc.isenabled()
    jobs.stop_all()
    assert gc.isenabled()
