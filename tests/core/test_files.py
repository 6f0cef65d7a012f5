"""Files: whole at any moment, in place of what may be replaced and of nothing else, with all that belongs to them."""

from __future__ import annotations

import os
import signal
import stat
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import pytest

from calor import files
from calor.cli import invoke
from calor.demo import DEMOS
from calor.files import save_atomically

CABINET = DEMOS[0].design
LOG = CABINET.parent / "hatching_cabinet_log.csv"


def test_what_belongs_to_a_file_stays(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    one, other = tmp_path / "a.toml", tmp_path / "also.toml"
    one.write_text("old")
    one.chmod(0o640)
    with_attributes = True
    try:
        os.setxattr(one, "user.note", b"mine")
    except OSError:
        with_attributes = False
    save_atomically(one, "new")
    assert one.read_text() == "new" and stat.S_IMODE(one.stat().st_mode) == 0o640
    assert not with_attributes or os.getxattr(one, "user.note") == b"mine"
    # a second name of the same file
    other.hardlink_to(one)
    save_atomically(other, "newer, and longer")
    assert one.read_text() == "newer, and longer" and one.stat().st_nlink == 2
    save_atomically(one, "short")
    assert other.read_text() == "short"
    # where its owner cannot be kept the file itself is written
    other.unlink()
    number = one.stat().st_ino
    monkeypatch.setattr(os, "setxattr", lambda *_: (_ for _ in ()).throw(PermissionError(1, "no")))
    monkeypatch.setattr(files, "_attributes", lambda _: ["user.note"])
    save_atomically(one, "in place")
    assert one.read_text() == "in place" and one.stat().st_ino == number
    assert [path.name for path in tmp_path.iterdir()] == ["a.toml"]


def test_what_may_not_be_replaced_is_not(tmp_path: Path) -> None:
    kept = tmp_path / "kept.toml"
    kept.write_text("kept")
    kept.chmod(0o444)
    with pytest.raises(PermissionError):
        save_atomically(kept, "lost")
    assert kept.read_text() == "kept"
    with pytest.raises(IsADirectoryError):
        save_atomically(tmp_path, "lost")
    # a pipe and a device are written to, and stay
    pipe, received = tmp_path / "pipe", []
    os.mkfifo(pipe)
    reader = threading.Thread(target=lambda: received.append(pipe.read_text()))
    reader.start()
    save_atomically(pipe, "told")
    reader.join()
    save_atomically(Path("/dev/null"), "gone")
    assert received == ["told"] and pipe.is_fifo() and Path("/dev/null").is_char_device()
    # the longest name that a file may have
    long = tmp_path / ("n" * 250 + ".toml")
    save_atomically(long, "long")
    assert long.read_text() == "long"


def test_a_kill_at_any_moment_loses_nothing(tmp_path: Path) -> None:
    """A process that saves over and over is killed; the file is whole, and what it left is gone at the next save."""
    one, linked = tmp_path / "one.txt", tmp_path / "linked.txt"
    one.write_text("0" * 60_000)
    linked.write_text("0" * 60_000)
    (tmp_path / "again.txt").hardlink_to(linked)
    script = (
        "import sys\nfrom pathlib import Path\nfrom calor.files import save_atomically\n"
        "k = 0\nwhile True:\n    k += 1\n    for path in sys.argv[1:]:\n"
        "        save_atomically(Path(path), str(k % 10) * (50_000 + 1_000 * (k % 20)))\n    print(k, flush=True)\n"
    )
    for _ in range(12):
        running = subprocess.Popen([sys.executable, "-c", script, str(one), str(linked)], stdout=subprocess.PIPE)
        assert running.stdout is not None
        for _ in range(3):
            running.stdout.readline()
        running.send_signal(signal.SIGKILL)
        running.wait()
        running.stdout.close()
        for path in (one, linked):
            files.finish(path)
            text = path.read_text()
            assert (
                len(text) >= 50_000
                and set(text) == {text[0]}
                and (text[0] == "0" or len(text) == 50_000 + 1_000 * (int(text[0]) + 10 * (len(text) >= 60_000)))
            )
        assert sorted(path.name for path in tmp_path.iterdir()) == ["again.txt", "linked.txt", "one.txt"]


def test_a_full_disk_keeps_what_was(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    linked = tmp_path / "linked.txt"
    linked.write_text("old")
    (tmp_path / "again.txt").hardlink_to(linked)

    def full(*_: Any) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "posix_fallocate", full)
    with pytest.raises(OSError, match="No space"):
        save_atomically(linked, "longer than before")
    assert linked.read_text() == "old" and len(list(tmp_path.iterdir())) == 2


@pytest.mark.parametrize(
    ("command", "forced"),
    [
        (["run", "{design}", "--csv", "{design}"], False), (["run", "{design}", "--csv", "{link}"], False),
        (["replay", "{design}", "{log}", "--csv", "{log}"], False), (["run", "{design}", "--csv", "{other}"], True),
        (["run", "{design}", "--csv", "{log}"], True), (["sheet", "{design}", "--html", "{other}"], True),
        (["sheet", "{design}", "--html", "{design}"], False), (["tune", "{design}", "--rule", "simc_pi", "--out", "{design}"], True),
        (["fit", "{log}", "--order", "1", "--out", "{stem}"], False), (["new", "{other}"], True),
        (["run", "{own}", "--csv", "{code}", "--allow-code"], False), (["run", "{design}", "--with", "{code}", "--csv", "{code}"], False),
    ],
)  # fmt: skip
def test_no_output_destroys_an_input(
    command: list[str], forced: bool, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Named by any name it is refused, with --force too where it is read; what Calor wrote itself is replaced."""
    names = {
        "design": tmp_path / "d.toml", "log": tmp_path / "x_record.csv", "other": tmp_path / "other.toml", "stem": tmp_path / "x.toml",
        "link": tmp_path / "link.csv", "own": tmp_path / "own.toml", "code": tmp_path / "law.py",
    }  # fmt: skip
    names["design"].write_bytes(CABINET.read_bytes())
    names["log"].write_bytes(LOG.read_bytes())
    names["other"].write_text("a list of things\n")
    names["code"].write_text("class Law:\n    def step(self, reading, dt):\n        return 0.5\n")
    names["own"].write_text(
        '[setpoint]\ncelsius = 50\n[law]\nkind = "code"\nfile = "law.py"\n[drive]\nkind = "linear"\n'
        '[load]\nkind = "first_order"\n[probe]\nkind = "ideal"\n[[trial]]\nspan_s = 60\n'
    )
    names["link"].hardlink_to(names["design"])
    before = {path: path.read_bytes() for path in tmp_path.iterdir()}
    words = [word.format(**names) for word in command]
    assert invoke(words) == 2
    said = capsys.readouterr().err
    assert len(said.strip().splitlines()) == 1 and ("--force" in said or "would be lost" in said), said
    assert {path: path.read_bytes() for path in tmp_path.iterdir()} == before
    assert (invoke([*words, "--force"]) in (0, 1)) is forced
    assert forced or {path: path.read_bytes() for path in tmp_path.iterdir()} == before


def test_what_calor_wrote_is_replaced(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    out, page = tmp_path / "out.csv", tmp_path / "sheet.html"
    for _ in range(2):
        assert (
            invoke(["run", str(CABINET), "--csv", str(out)]) in (0, 1)
            and invoke(["sheet", str(CABINET), "--html", str(page)]) == 0
        )
    assert invoke(["run", str(CABINET), "--csv", "/dev/null"]) in (0, 1) and Path("/dev/null").is_char_device()
    assert out.read_text().startswith("time_s,true_celsius")
    capsys.readouterr()


def test_a_folder_of_c_is_shared_with_nobody_unasked(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Somebody's README is named and kept; what Calor wrote is written again; what was changed since is asked about."""
    folder = tmp_path / "firmware"
    folder.mkdir()
    (folder / "README.md").write_text("mine\n")
    command = ["code", str(CABINET), "--out", str(folder)]
    assert invoke(command) == 2 and (folder / "README.md").read_text() == "mine\n" and len(list(folder.iterdir())) == 1
    assert "holds README.md, which Calor did not write" in capsys.readouterr().err
    (folder / "README.md").rename(folder / "main.c")
    assert invoke(command) == 2 and "holds main.c" in capsys.readouterr().err
    assert invoke([*command, "--force"]) == 0 and (folder / "main.c").read_text() == "mine\n"
    assert invoke(command) == 0  # the project around it is known by now
    law = folder / "hatching_cabinet_law.c"
    law.write_text(law.read_text() + "/* mine */\n")
    capsys.readouterr()
    assert (
        invoke(command) == 2 and "holds hatching_cabinet_law.c" in capsys.readouterr().err and "mine" in law.read_text()
    )
    assert invoke([*command, "--force"]) == 0 and "mine" not in law.read_text()
    assert not [path for path in folder.iterdir() if path.name.startswith(".")]
    (folder / "README.md").unlink()
    (folder / "README.md").mkdir()
    assert invoke([*command, "--force"]) == 2 and "cannot be written" in capsys.readouterr().err
