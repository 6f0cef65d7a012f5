"""Controller code of others: what it tries and what comes of it, by each protection; what a compiler may see; what ends."""

from __future__ import annotations

import os
import py_compile
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from calor import loop
from calor.contained import protection
from calor.contained.process import Means
from calor.design.trial import Trial
from calor.errors import ConsentError, FirmwareError
from calor.firmware.controller import consent, own_process
from calor.firmware.controller.diagnostics import diagnose
from calor.firmware.controller.own_source import in_hand, read_source, taken_in
from calor.firmware.controller.seat import seated
from tests.core.test_own_law import DESIGN, C

BWRAP = shutil.which("bwrap") or ""
MEANS = {"bwrap": Means(BWRAP, False, True), "kernel": Means("", True, True), "limits": Means()}
PYTHON = (
    "class Law:\n    k = 0\n    def step(self, reading, dt):\n        self.k += 1\n        if self.k == 5:\n            self.go()\n"
    "        return 0.5\n    def go(self):\n        import os, sys, socket, time\n        {what}\n"
)
OUTSIDE = "/var/tmp/calor-was-here"
TRIES = {
    "reads another's file": ("raise SystemExit('READ ' + open({secret!r}).read())", ["READ kept"], "files"),
    "writes outside": (f"open({OUTSIDE!r}, 'w').close(); raise SystemExit('WROTE')", ["WROTE"], "files"),
    "opens a socket": ("socket.socket(); raise SystemExit('SOCKET')", ["SOCKET"], "network"),
    "begins others": ("os.fork() and sys.exit('BEGUN')", ["BEGUN", "ran"], "processes"),
}  # fmt: skip
ALWAYS = {
    "fills a file": ("f = open('f', 'wb')\n        while True: f.write(bytes(1 << 20))", ["File too large", "SIGXFSZ"]),
    "fills the disk": ("for k in range(1000): open(f'f{k}', 'wb').write(bytes(1 << 22))", ["No space left", "wrote more than 32 MiB"]),
    "answers by the byte": ("while True: os.write(int(sys.argv[2]), b'x'); time.sleep(0.3)", ["did not answer within 1.5 s"]),
    "prints without end": ("while True: print('x' * 100_000, file=sys.stderr)", ["did not answer within 1.5 s"]),
    "answers too much": ("os.write(int(sys.argv[2]), bytes(40))", ["answered more than it was asked"]),
    "closes what it prints to": ("os.close(1); os.close(2); raise SystemExit(3)", ["ended by itself with code 3", "ended by itself with code 120"]),
    "stops answering": ("os.close(int(sys.argv[2])); time.sleep(600)", ["was ended by the system (SIGKILL)"]),
}  # fmt: skip


@pytest.fixture(params=MEANS)
def held(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> protection.Protection:
    """A protection of this machine, in force; skipped where the machine does not grant it."""
    granted = protection.tried(MEANS[request.param]) if request.param != "bwrap" or BWRAP else None
    if granted is None or (request.param != "limits" and not granted.is_whole):
        pytest.skip(f"this machine grants no protection by {request.param}")
    monkeypatch.setattr(protection, "found", lambda: granted)
    return granted


def said_by(path: Path, text: str) -> str:
    """What comes of a run in which a text decides."""
    try:
        with seated(DESIGN, str(path), consented=in_hand(path, text)) as seat:
            loop.run(DESIGN, Trial(span_s=60), seat=seat)
    except FirmwareError as error:
        return str(error)
    return "ran"


def test_what_own_code_tries(held: protection.Protection, tmp_path: Path) -> None:
    """Each attempt fails where the protection says so, and only there it may succeed; limits hold under every one."""
    secret, law = tmp_path / "secret", tmp_path / "law.py"
    secret.write_text("kept")
    Path(OUTSIDE).unlink(missing_ok=True)
    for name, (what, succeeded, kind) in TRIES.items():
        said = said_by(law, PYTHON.format(what=what.format(secret=str(secret))))
        assert any(word in said for word in succeeded) is not getattr(held, kind), f"{name}: {said}"
        assert (said == "ran" or "at step 4" in said) and "\n" not in said, f"{name}: {said}"
    assert Path(OUTSIDE).exists() is not held.files
    Path(OUTSIDE).unlink(missing_ok=True)
    for name, (what, expected) in ALWAYS.items():
        said = said_by(law, PYTHON.format(what=what))
        assert any(word in said for word in expected), f"{name}: {said}"
    # in C, what it prints is no answer
    noisy = (
        C.format(body='printf("%24d", 7); fflush(stdout); out->demand[0] = 0.25f; (void)in;')
        .replace("{{", "{")
        .replace("}}", "}")
    )
    assert said_by(tmp_path / "noisy.c", noisy.replace("<math.h>", "<stdio.h>")) == "ran"
    assert held.words.startswith("contained by") and ("with your rights" in held.words) is not held.is_whole


def alive(mark: str) -> list[str]:
    """Processes with a mark in their command line or environment's folder."""
    found = []
    for place in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            line = place.read_bytes().decode(errors="replace")
        except OSError:
            continue
        if mark in line and place.parent.name != str(os.getpid()):
            found.append(line)
    return found


@pytest.mark.parametrize("name", MEANS)
def test_nothing_outlives_a_killed_calor(name: str, tmp_path: Path) -> None:
    """A law that spins, and one that has begun others, end with whoever began them, however that ends."""
    if (name == "bwrap" and not BWRAP) or protection.tried(MEANS[name]) is None:
        pytest.skip(f"this machine grants no protection by {name}")
    mark = f"calor-test-{os.getpid()}-{name}"
    law = tmp_path / f"{mark}.py"
    law.write_text("class Law:\n    def step(self, reading, dt):\n        while True:\n            pass\n")
    script = (
        "import sys\nfrom pathlib import Path\nfrom calor import loop\nfrom calor.contained import protection\n"
        "from calor.contained.process import Means\nfrom calor.design.trial import Trial\n"
        "from calor.firmware.controller import own_process\nfrom calor.firmware.controller.own_source import read_source\n"
        "from calor.firmware.controller.seat import seated\nfrom tests.core.test_own_law import DESIGN\n"
        f"granted = protection.tried({MEANS[name]!r})\nprotection.found = lambda: granted\n"
        "own_process.LONGEST_START_S = 600.0\npath = Path(sys.argv[1])\n"
        "with seated(DESIGN, str(path), consented=read_source(path)) as seat:\n"
        "    loop.run(DESIGN, Trial(span_s=60), seat=seat)\n"
    )
    running = subprocess.Popen([sys.executable, "-c", script, str(law)], cwd=Path(__file__).parents[2])
    try:
        # itself, and the law in its process
        until(lambda: sum("runner.py" in line for line in alive(mark)) >= 1, 60.0)
        running.send_signal(signal.SIGKILL)
        running.wait()
        until(lambda: not alive(mark), 120.0)
    finally:
        running.kill()


def until(holds: Any, longest_s: float) -> None:
    """Wait for a condition."""
    end_s = time.monotonic() + longest_s
    while not holds():
        assert time.monotonic() < end_s, "it did not come to that"
        time.sleep(0.02)


def test_a_run_is_stopped_while_own_code_computes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(own_process, "LONGEST_START_S", 600.0)
    monkeypatch.setattr(own_process, "LONGEST_ANSWER_S", 600.0)
    control, source = loop.new_control(), in_hand(tmp_path / "law.py", PYTHON.format(what="time.sleep(600)"))
    ends = []

    def stop() -> None:
        until(lambda: control[1] >= 4, 60.0)
        control[0] = 1
        ends.append(True)

    import threading

    stopper = threading.Thread(target=stop)
    stopper.start()
    with pytest.raises(loop.Stopped), seated(DESIGN, str(source.path), control=control, consented=source) as seat:
        loop.run(DESIGN, Trial(span_s=60), control, seat)
    stopper.join()
    assert ends


# ---- consent covers what will run


def test_consent_is_for_all_that_will_run(tmp_path: Path) -> None:
    """No bytecode beside it is run, no neighbour is taken in, and of a change of the same size none is overlooked."""
    law = tmp_path / "my_law.py"
    half = "class Law:\n    def step(self, reading, dt):\n        return 0.5\n"
    law.write_text(half.replace("0.5", "0.9"))
    py_compile.compile(str(law))  # planted: newer than what follows, and of its size
    stamp = law.stat()
    law.write_text(half)
    os.utime(law, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
    source = read_source(law)
    with pytest.raises(ConsentError), seated(DESIGN, str(law)):
        pass
    consent.allow(source)
    with seated(DESIGN, str(law)) as seat:
        assert loop.run(DESIGN, Trial(span_s=20), seat=seat).demand.mean() == pytest.approx(0.5)
    law.write_text(half.replace("0.5", "0.7"))
    with pytest.raises(ConsentError, match="has not been allowed"), seated(DESIGN, str(law)):
        pass
    # what lies beside it is found by neither language
    (tmp_path / "beside.py").write_text("VALUE = 0.5\n")
    (tmp_path / "beside.h").write_text("#define VALUE 0.5f\n")
    assert "No module named 'beside'" in said_by(law, "import beside\n" + half)
    assert [(item.line, item.is_error) for item in diagnose("law.py", "import beside\n" + half)] == [(1, True)]
    assert (
        diagnose("law.py", "try:\n    import beside\nexcept ImportError:\n    pass\nimport math, numpy\n" + half) == []
    )
    with_header = '#include "beside.h"\n' + C.format(body="out->demand[0] = VALUE; (void)in;")
    assert "beside.h" in said_by(tmp_path / "law.c", with_header)


@pytest.mark.parametrize(
    ("text", "line"),
    [
        ('#include "/dev/zero"\n', 1), ("#include </etc/passwd>\n", 1), ('\n#include "../secret.h"\n', 2),
        ("int a;\n\n# /* so */ include <sys/../../x.h>\n", 3), ('#\\\ninclude "/dev/zero"\n', 1), ('??=include "/x"\n', 1),
        ('%:include "/dev/zero"\n', 1), ('#inc??/\nlude "/dev/zero"\n', 1), ("#define X <stdio.h>\n#include X\n", 2),
        ('/* a\n b */ #include "/x"\n', 2), ('#include_next <stdio.h>\n', 1), ('int a = 1; // \\\n\n#embed "/x"\n', 3),
        ('char *a = "/*";\n#include "/x"\n// */\n', 2), ("#include <stdio.h>\n#include <sys/types.h>\n#include \"math.h\"\n", 0),
        ('char *a = "\\n#include </x>";\n/*\n#include </x>\n*/\n', 0), ("", 0),
    ],
)  # fmt: skip
def test_what_c_may_take_in(text: str, line: int) -> None:
    """Seen before any compiler does: comments, splices, digraphs and trigraphs of ISO C99 (5.1.1.2, 5.2.1.1) aside."""
    refused = taken_in(text)
    assert [item.line for item in refused] == ([line] if line else [])
    if line:
        assert diagnose("law.c", text)[0].line == line and "one file" in diagnose("law.c", text)[0].text


def test_a_compiler_is_ended_with_its_children(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A text that takes a compiler for ever: it is stopped, its children with it, and what it may take is bounded."""
    from calor.firmware.controller import own_build

    monkeypatch.setattr(own_build, "LONGEST_S", 2.0)
    doubled = "".join(f"#define A{k + 1} A{k} A{k} A{k} A{k}\n" for k in range(30))
    said = diagnose("law.c", f"#define A0 1+\n{doubled}int a = A30 0;\n")
    assert said[0].is_error and len(said[0].text) < 500
    until(lambda: not [line for line in alive("cc1") if "calor_law" in line or "law.c" in line], 30.0)
