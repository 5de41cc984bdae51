"""The running machine with real things: an OpenSSH server on loopback, multicast DNS answered by the zeroconf library,
archives opened by unzip (Info-ZIP) and proven by sha256sum (coreutils), the next image started by a kernel."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from judges import kernel
from kyklon.base.errors import TargetLost, WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.demo import lighthouse
from kyklon.demo.card_image import boot_files
from kyklon.devices.neighbours import LinuxNeighbourhood, host_key_of
from kyklon.devices.secure_copy import SecureCopy
from kyklon.model.build import Build, edited
from kyklon.operations.boot.acts import plan_boot_files
from kyklon.operations.card.observe import started_by
from kyklon.operations.card.volumes import contents
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.rehearsal import rehearse
from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_rehearsal, verdict
from kyklon.operations.upkeep import change, each, find, keys, running, saves, settings, stick
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook
from machines import Server, answering, mounted, needs_root, needs_server, serving
from support import Demo
from test_failures import good_build, world_of
from test_failures import put as put_on_card


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    with serving(tmp_path) as made:
        yield made


@pytest.fixture
def machine(server: Server, tmp_path: Path, catalogue: Catalogue) -> tuple[Path, Build]:
    """A build folder whose machine is the server, with the demo's boot files in its boot folder."""
    folder = tmp_path / "bench"
    folder.mkdir()
    for name, data in boot_files().items():
        path = server.top / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    build = edited(server.build(lighthouse.build(catalogue, "0" * 64)), "upkeep.boot_folder", str(server.top))
    store.save(folder, build)
    return folder, build


def sums(folder: Path) -> dict[str, str]:
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in folder.rglob("*")
        if path.is_file()
    }


@needs_server
def test_a_boot_line_is_changed_on_a_running_machine_and_taken_back(
    machine: tuple[Path, Build], server: Server, catalogue: Catalogue
) -> None:
    folder, build = machine
    before = sums(server.top)
    with running.boot_folder(build) as place:
        told = running.look(place)
        assert told.kernel == subprocess.run(["uname", "-r"], capture_output=True, text=True, check=True).stdout.strip()
        assert told.up_s > 0
        done = change.put(folder, build, catalogue, place)
        assert "merrow.settings" in done.files
        assert all((server.top / name).read_bytes() == data for name, data in done.files.items())
        assert change.planned(build, catalogue, place).files == {}
        change.undo(folder, place)
    assert sums(server.top) == before


@needs_server
@pytest.mark.long(keep=3)
@pytest.mark.parametrize("seed", range(12))
def test_a_connection_cut_in_the_midst_leaves_nothing_half(
    seed: int, machine: tuple[Path, Build], server: Server, catalogue: Catalogue
) -> None:
    folder, build = machine
    before = sums(server.top)
    with running.boot_folder(build) as place:
        whole = {n: hashlib.sha256(d).hexdigest() for n, d in change.planned(build, catalogue, place).files.items()}
    timer = threading.Timer(0.02 + 0.03 * seed, server.cut)
    with contextlib.suppress(TargetLost), running.boot_folder(build) as place:
        timer.start()
        change.put(folder, build, catalogue, place)
    timer.join()
    for name, digest in sums(server.top).items():
        if not name.startswith(change.ASIDE) and not name.rpartition("/")[2].startswith("."):
            assert digest in (before.get(name), whole.get(name)), name
    server.start()
    with running.boot_folder(build) as place:
        if change.last_change(folder):
            change.undo(folder, place)
        else:
            change.put(folder, build, catalogue, place)
            change.undo(folder, place)
    assert sums(server.top) == before


@needs_server
def test_a_restart_is_waited_for_and_one_that_stays_away_is_remembered(
    machine: tuple[Path, Build], server: Server, catalogue: Catalogue
) -> None:
    """The server goes and comes again, as a machine's does."""
    folder, build = machine
    build = edited(edited(build, "upkeep.restart", "true"), "upkeep.comes_back_s", 60)

    def away_and_back() -> None:
        server.cut()
        time.sleep(3.0)
        server.start()

    tell = change._tell
    then: list[Callable[[], None]] = [lambda: threading.Thread(target=away_and_back).start()]

    def told_so(place: SecureCopy, command: str) -> None:
        tell(place, command)
        then.pop()()

    connect = lambda: SecureCopy(running.login(build))  # noqa: E731
    with running.boot_folder(build) as place:
        change.put(folder, build, catalogue, place)
    first = running.look
    seen: list[float] = []

    def looked(place: SecureCopy) -> running.Running:
        """This computer does not restart: it says so in the machine's place."""
        told = first(place)
        seen.append(told.up_s)
        return replace(told, up_s=1.0, line="quiet") if len(seen) > 1 else told

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(change, "look", looked)
        patch.setattr(change, "_tell", told_so)
        back = change.restart(folder, build, connect)
        assert back.seconds is not None
        assert back.missing == tuple(word for word in build.boot.kernel_words if word != "quiet")
        assert store.load(folder).build.upkeep.waited_for == ()
        server.cut()
        with pytest.raises(TargetLost):
            change.restart(folder, build, connect)
        server.start()
        away = edited(build, "upkeep.comes_back_s", 5)
        then.append(server.cut)
        gone = change.restart(folder, away, connect)
    assert gone.seconds is None
    assert "merrow.settings" in store.load(folder).build.upkeep.waited_for
    with pytest.raises(WrongUse, match="no restart command"):
        change.restart(folder, edited(build, "upkeep.restart", ""), connect)


@needs_server
def test_several_machines_are_changed_one_by_one_until_one_stays_away(
    machine: tuple[Path, Build], server: Server, catalogue: Catalogue, tmp_path: Path
) -> None:
    """Three builds with a boot folder each; the second does not come back, the third is not touched."""
    _folder, build = machine
    folders = []
    for number in range(3):
        folder = tmp_path / f"bench-{number}"
        folder.mkdir()
        place = tmp_path / f"boot-{number}"
        shutil.copytree(server.top, place)
        own = edited(edited(build, "upkeep.boot_folder", str(place)), "upkeep.comes_back_s", 8)
        store.save(folder, edited(own, "upkeep.restart", "true"))
        folders.append(folder)
    before = [store.load(folder).build for folder in folders], [sums(tmp_path / f"boot-{n}") for n in range(3)]
    edit = lambda now: edited(now, "boot.video_memory_mb", 96)  # noqa: E731
    seen = each.preview(folders, edit, lambda _folder: catalogue)
    assert [turn.state for turn in seen] == ["to change"] * 3
    assert all("96" in "".join(turn.differences) for turn in seen)
    assert (
        [store.load(folder).build for folder in folders],
        [sums(tmp_path / f"boot-{n}") for n in range(3)],
    ) == before
    first, count = running.look, [0]

    def looked(place: SecureCopy) -> running.Running:
        """The first machine comes back; the second goes on as it was, so it never restarted."""
        count[0] += 1
        return replace(first(place), up_s=1.0 if count[0] == 2 else 1e6 + time.monotonic())

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(change, "look", looked)
        done = list(each.carry_out(folders, edit, lambda _folder: catalogue))
    assert [turn.state for turn in done] == ["back", "away"]
    assert [store.load(folder).build.boot.video_memory_mb for folder in folders][:2] == [96, 96]
    assert store.load(folders[2]).build == before[0][2]
    assert sums(tmp_path / "boot-2") == before[1][2]
    assert store.load(folders[1]).build.upkeep.waited_for


@needs_root
@pytest.mark.parametrize("kind", ["vfat"])
def test_games_by_a_real_stick(kind: str, tmp_path: Path, demo: Demo, catalogue: Catalogue) -> None:
    with mounted(tmp_path, kind) as place:
        found = stick.way(demo.build, demo.folder, catalogue, place, measure=True)
        assert found.stick.kind == "FAT32"
        assert found.stick.troubles == ()
        (place / "quayside").mkdir()  # as the machine does
        stick.copy(demo.build, demo.folder, catalogue, place)
        after = stick.way(demo.build, demo.folder, catalogue, place)
        assert after.missing == {}
        assert {path.name for path in place.iterdir()} == {"quayside"}


@needs_server
def test_another_host_key_is_not_talked_to(machine: tuple[Path, Build], server: Server) -> None:
    _folder, build = machine
    assert host_key_of("127.0.0.1", server.port) == server.host_key
    other = " ".join(server.config.with_name("user.pub").read_text(encoding="ascii").split()[:2])
    with (
        pytest.raises(WrongUse, match="a different host key"),
        running.boot_folder(edited(build, "library.host_key", other)),
    ):
        pass


@needs_server
def test_a_machine_with_several_keys_is_known_by_the_one_that_was_kept(server: Server) -> None:
    rsa = server.config.with_name("rsa")
    subprocess.run(["ssh-keygen", "-q", "-t", "rsa", "-b", "2048", "-N", "", "-f", rsa], check=True)
    with server.config.open("a") as file:
        file.write(f"HostKey {rsa}\n")
    server.cut()
    server.start()
    kept = " ".join(rsa.with_suffix(".pub").read_text(encoding="ascii").split()[:2])
    assert host_key_of("127.0.0.1", server.port, "ssh-rsa") == kept
    assert host_key_of("127.0.0.1", server.port, "ssh-ed25519") == server.host_key
    assert host_key_of("127.0.0.1", server.port, "ecdsa-sha2-nistp256") in (kept, server.host_key)


@needs_server
def test_a_machine_that_tells_no_uptime_is_back_only_once_it_was_away(
    machine: tuple[Path, Build], server: Server
) -> None:
    folder, build = machine
    build = edited(edited(build, "upkeep.restart", "true"), "upkeep.comes_back_s", 12)
    with pytest.MonkeyPatch.context() as patch:
        first = running.look
        patch.setattr(change, "look", lambda place: replace(first(place), up_s=0.0))
        assert change.restart(folder, build, lambda: SecureCopy(running.login(build))).seconds is None


@needs_server
def test_boot_files_through_sudo(
    machine: tuple[Path, Build], server: Server, catalogue: Catalogue, tmp_path: Path
) -> None:
    """A stand-in for sudo in the login's path, which lets the transfer program through or does not."""
    folder, build = machine
    build = edited(build, "upkeep.as_root", True)
    tools = tmp_path / "tools"
    tools.mkdir()
    sudo = tools / "sudo"
    with server.config.open("a") as file:
        file.write(f"SetEnv PATH={tools}:/usr/bin:/bin\n")
    server.cut()
    server.start()
    sudo.write_text("#!/bin/sh\necho 'a password is required' >&2\nexit 1\n")
    sudo.chmod(0o755)
    with pytest.raises(WrongUse, match="may not change boot files"), running.boot_folder(build):
        pass
    sudo.write_text(f'#!/bin/sh\n[ "$1" = -n ] && shift\necho "$1" >> {tmp_path}/asked\nexec "$@"\n')
    with running.boot_folder(build) as place:
        done = change.put(folder, build, catalogue, place)
        assert (server.top / "merrow.settings").read_bytes() == done.files["merrow.settings"]
        change.undo(folder, place)
    assert (tmp_path / "asked").read_text().splitlines()[0].endswith("sftp-server")


@needs_server
def test_settings_on_a_running_machine_with_their_rights(
    machine: tuple[Path, Build], server: Server, catalogue: Catalogue
) -> None:
    """Whole files of a root, here a folder of the server's."""
    folder, build = machine
    top = server.top / "root"
    for name in ("wpa_supplicant", "sudoers.d", "default"):
        (top / "etc" / name).mkdir(parents=True)
    old = top / "etc/wpa_supplicant/wpa_supplicant.conf"
    old.write_text('network={\n\tssid="elsewhere"\n\tpsk="a phrase of theirs"\n}\n')
    old.chmod(0o600)
    (top / "etc/default/keyboard").write_text('XKBLAYOUT="us"\n')
    before = {**sums(top), "mode": f"{old.stat().st_mode:o}"}
    decided = {"wireless_name": "Quay", "wireless_key": "long enough", "keyboard": "gb", "may_shut_down": True}
    build = edited(build, "system", {**build.system.model_dump(), **decided})
    with running.root_folder(build, top=str(top)) as place:
        found = settings.planned(build, catalogue, place)
        assert found.skipped == ()
        assert found.cuts_off
        told = "\n".join(found.differences.values())
        assert "(not shown)" in told
        assert not {"a phrase of theirs", build.system.wireless_key} & set(told.replace('"', "=").split("="))
        settings.put(folder, build, catalogue, place)
        assert not settings.planned(build, catalogue, place).files
        assert build.system.wireless_key in old.read_text()
        modes = {path: path.stat().st_mode & 0o777 for path in (top / "etc").rglob("*") if path.is_file()}
        assert modes == {
            old: 0o600,
            top / "etc/sudoers.d/games": 0o440,
            top / "etc/default/keyboard": 0o644,
            top / "etc/vconsole.conf": 0o644,
        }
        assert build.system.wireless_key not in Logbook(folder).markdown("x")
        (top / "etc/sudoers.d/games").chmod(0o666)  # whoever opened it to everybody
        assert list(settings.planned(build, catalogue, place).files) == ["etc/sudoers.d/games"]
        (top / "etc/sudoers.d/games").chmod(0o440)
        settings.undo(folder, place)
    assert {**sums(top), "mode": f"{old.stat().st_mode:o}"} == before
    assert (top / "etc/sudoers.d").is_dir()  # was there, and is empty again
    shutil.rmtree(top / "etc/default")
    with running.root_folder(build, top=str(top)) as place:
        assert settings.planned(build, catalogue, place).skipped == ("/etc/default/keyboard",)


@needs_server
@pytest.mark.parametrize("manager", ["run/systemd/system", "etc/rc2.d", ""])
def test_what_is_joined_with_a_file_there_waits_for_the_next_start(
    manager: str, machine: tuple[Path, Build], server: Server, catalogue: Catalogue
) -> None:
    folder, build = machine
    top = server.top / "root"
    (top / "etc").mkdir(parents=True)
    (top / manager).mkdir(parents=True, exist_ok=True)
    decided = {"time_zone": "Europe/Dublin", "start_command": "echo on", "may_shut_down": False}
    build = edited(build, "system", {**build.system.model_dump(), **decided})
    before = sums(top)
    with running.root_folder(build, top=str(top)) as place:
        found = settings.put(folder, build, catalogue, place)
        if not manager:
            assert not found.files
            return
        script = top / "usr/local/sbin/kyklon-setup"
        assert "echo on" in script.read_text()
        assert "XKBLAYOUT" not in script.read_text()  # a whole file, which is put there by itself
        assert script.stat().st_mode & 0o777 == 0o700
        subprocess.run(["dash", "-n", script], check=True)
        started = "etc/systemd/system/kyklon-setup.service" if "systemd" in manager else f"{manager}/S99kyklon-setup"
        assert (top / started).is_file()
        assert not settings.planned(build, catalogue, place).files
        settings.undo(folder, place)
    assert sums(top) == before


@needs_server
def test_a_key_is_what_openssh_takes(machine: tuple[Path, Build], server: Server, tmp_path: Path) -> None:
    """ssh-keygen reads both halves, and the server lets it in."""
    _folder, build = machine
    path = tmp_path / "home" / ".ssh" / "kyklon-games"
    made = keys.make(path)
    assert (path.stat().st_mode & 0o777, path.parent.stat().st_mode & 0o777) == (0o600, 0o700)
    told = subprocess.run(["ssh-keygen", "-y", "-f", path], capture_output=True, text=True, check=True).stdout
    assert told.split()[:2] == made.public.split()[:2]
    assert keys.make(path).old
    assert keys.make(path).public == made.public
    build = keys.with_key(build, made)
    assert build.system.remote_key == made.public
    with pytest.raises(WrongUse, match="cannot log in"), running.boot_folder(build):
        pass
    authorized = server.config.with_name("authorized")
    authorized.write_text(authorized.read_text() + made.public + "\n")
    with running.boot_folder(build) as place:
        assert running.look(place).kernel
    (tmp_path / "text").write_text("no key")
    with pytest.raises(WrongUse, match="is not a key"):
        keys.make(tmp_path / "text")
    (tmp_path / "link").symlink_to(tmp_path / "nowhere")
    with pytest.raises(WrongUse, match="cannot be made"):
        keys.make(tmp_path / "link")


@pytest.fixture
def announced(server: Server) -> Iterator[None]:
    """A stand-in that answers multicast DNS on loopback as the machine would."""
    with answering("kyklon-test-table", server.port):
        yield


@needs_server
def test_the_machine_is_found_by_its_name(announced: None, machine: tuple[Path, Build], server: Server) -> None:
    _folder, build = machine
    build = edited(edited(build, "library.host", ""), "boot.hostname", "kyklon-test-table")
    nearby = LinuxNeighbourhood(["127.0.0.1"])
    for _ in range(3):  # multicast may lose an answer on a busy machine
        found = [each for each in find.find(build, nearby, seconds=3.0) if each.neighbour.address == "127.0.0.1"]
        if found and found[0].ours:
            break
    assert found
    assert found[0].ours is True
    assert found[0].shell
    assert found[0].neighbour.port == server.port
    assert found[0].neighbour.name == "kyklon-test-table.local"
    made = find.with_machine(build, found[0])
    with running.boot_folder(edited(made, "upkeep.boot_folder", str(server.top))) as place:
        assert running.look(place).kernel


@needs_server
def test_saves_go_over_to_a_new_card(machine: tuple[Path, Build], server: Server, catalogue: Catalogue) -> None:
    """Kept from the running machine, the card exchanged, put back: unzip and sha256sum -c agree."""
    folder, build = machine
    games = server.top / "games" / "alder8"
    games.mkdir(parents=True)
    for name in ("One.keep", "Two.keep", "Two.snap1"):
        (games / name).write_bytes(name.encode() * 100)
    before = sums(server.top)
    with (
        SecureCopy(running.login(build))
        if hasattr(SecureCopy, "__enter__")
        else contextlib.closing(SecureCopy(running.login(build))) as place
    ):
        kept = saves.keep(folder, build, catalogue, place)
        shutil.rmtree(games)
        done = saves.restore(folder, build, catalogue, place)
    assert len(kept.new) == len(done.put) == 3
    assert {n: d for n, d in sums(server.top).items() if "alder8" in n} == {
        n: d for n, d in before.items() if "alder8" in n
    }
    unpacked = folder / "unpacked"
    subprocess.run(["unzip", "-q", folder / saves.FOLDER / kept.archive, "-d", unpacked], check=True)
    subprocess.run(["sha256sum", "-c", "--quiet", saves.SUMS], check=True, cwd=unpacked)


@pytest.mark.skipif(not kernel.available(), reason="no kernel: user-mode-linux and busybox-static")
def test_the_next_image_starts_as_was_foretold(demo: Demo, tmp_path: Path, catalogue: Catalogue) -> None:
    """The second version with this build's boot files, started by a real kernel."""
    card = tmp_path / "next.img"
    with card.open("wb") as file:
        subprocess.run(["xz", "-dc", demo.folder / lighthouse.NEXT_IMAGE], stdout=file, check=True)
    build = good_build("merrow")
    put_on_card(card, build)
    assert plan_boot_files(build, catalogue, contents.observe(card)).files == {}
    bench = lay_out(
        build, catalogue, contents.observe(card, started_by(build, catalogue)), world_of(build, demo.folder)
    )
    seen = rehearse(bench, card)
    sides = of_forecast(bring_up(bench), "", tried=seen.tried), of_rehearsal(seen, "")
    assert verdict(*sides, lay(*sides)).agree
    assert "clock" in seen.said
    assert "gangway: the menu" in seen.said
