"""`make bench`: each figure beside its bare limit, measured in the same run; medians into docs/benchmarks.md.

python benchmarks/run.py [NAME]... runs only the benchmarks named.
"""

from __future__ import annotations

import compileall
import io
import os
import platform
import statistics
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable, Sequence
from datetime import UTC, date, datetime, timedelta
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

ROOT = Path(__file__).resolve().parent.parent
WHENVOCA = str(Path(sys.executable).parent / "whenvoca")
HEADINGS = ["Answer", "Booking", "Link", "Request no", "Night of", "From", "To", "Target", "Instrument", "Observers"]
SETTINGS = """
[workspace]
name = "Bench"
root = "00000000-0000-4000-8000-000000000001"
zone = "Atlantic/Azores"
[places.requests]
kind = "sheet"
file = "requests.xlsx"
key = "Request no"
[places.domes]
kind = "calendar"
folder = "domes"
"""
WORKFLOW = (
    (ROOT / "src/whenvoca/demo/files/workflows/slot-requests.voca")
    .read_text(encoding="utf-8")
    .replace("  details    Notes\n", "")
)


def make_workbook(path: Path, rows: int) -> None:
    """Requests of as many nights: typed dates, texts, two addresses."""
    import xlsxwriter

    with xlsxwriter.Workbook(str(path), {"constant_memory": True}) as book:
        sheet = book.add_worksheet("Slots")
        day, clock = book.add_format({"num_format": "yyyy-mm-dd"}), book.add_format({"num_format": "hh:mm"})
        sheet.write_row(0, 0, HEADINGS)
        for number in range(1, rows + 1):
            sheet.write_string(number, 3, f"R-{number:06d}")
            sheet.write_datetime(number, 4, date(2027, 1, 1) + timedelta(days=number % 700), day)
            sheet.write_number(number, 5, 21.5 / 24, clock)
            sheet.write_number(number, 6, 2 / 24, clock)
            sheet.write_string(number, 7, f"M {number % 110}")
            sheet.write_string(number, 8, ("wide camera", "spectrograph")[number % 2])
            sheet.write_string(number, 9, "ines@example.org, tomas@example.org")


def make_workspace(folder: Path, rows: int) -> None:
    """A workspace with that many waiting rows."""
    (folder / "workflows").mkdir(parents=True)
    (folder / "whenvoca.toml").write_text(SETTINGS, encoding="utf-8")
    (folder / "workflows/slot-requests.voca").write_text(WORKFLOW, encoding="utf-8")
    make_workbook(folder / "requests.xlsx", rows)
    os.utime(folder / "requests.xlsx", (1, 1))


def timed(work: Callable[[], object]) -> float:
    """Seconds that it takes."""
    begin = time.perf_counter()
    work()
    return time.perf_counter() - begin


def command(*arguments: str, folder: Path) -> float:
    """Seconds of a command of the installed program."""
    begin = time.perf_counter()
    done = subprocess.run(
        [WHENVOCA, *arguments, "--workspace", str(folder)], capture_output=True, text=True, check=False
    )
    spent = time.perf_counter() - begin
    if done.returncode:
        raise SystemExit(f"whenvoca {arguments} ended with {done.returncode}: {done.stderr}")
    return spent


def read_bare(path: Path) -> float:
    """Reading the sheet: calamine alone."""
    from python_calamine import CalamineWorkbook

    return timed(lambda: CalamineWorkbook.from_path(path).get_sheet_by_index(0).to_python())


READING = (
    "from python_calamine import CalamineWorkbook as W; import sys; "
    "W.from_path(sys.argv[1]).get_sheet_by_index(0).to_python()"
)
READING_SIZE = READING + "; import resource; print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)"
INSIDE = """
import sys, time
from whenvoca.cli.main import run_command
run_command(["check", "--workspace", sys.argv[1]])  # everything imported, as in a process that is at work already
begin = time.perf_counter()
run_command(["run", "--workspace", sys.argv[1]])
print("inside", time.perf_counter() - begin)
"""


def read_process(path: Path) -> float:
    """Reading the sheet in a process of its own: interpreter, import, calamine."""
    return timed(lambda: subprocess.run([sys.executable, "-c", READING, str(path)], check=True))


def run_inside(folder: Path) -> float:
    """A run in a process that has started already."""
    done = subprocess.run([sys.executable, "-c", INSIDE, str(folder)], capture_output=True, text=True, check=True)
    return float(done.stdout.split()[-1])


def write_bare(folder: Path, rows: int) -> float:
    """10,000 small files and one sync for the group, then their names."""
    body = b"x" * 1000

    def work() -> None:
        folder.mkdir()
        for number in range(rows):
            descriptor = os.open(folder / f"{number}.tmp", os.O_WRONLY | os.O_CREAT)
            os.write(descriptor, body)
            os.close(descriptor)
        os.sync()
        for number in range(rows):
            os.rename(folder / f"{number}.tmp", folder / f"{number}.ics")

    return timed(work)


def save_bare(path: Path, target: Path) -> float:
    """One save of a workbook of that size: inflate every part, deflate it again, force it to the disk."""

    def work() -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(path) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
            for entry in old.infolist():
                new.writestr(entry, old.read(entry))
        with open(target, "wb") as file:
            file.write(out.getvalue())
            os.fsync(file.fileno())

    return timed(work)


def journal_bare(ledger: Path, target: Path) -> float:
    """What a first run left in its ledger, written into an empty one by statements like the ledger's own and in as many
    transactions, every value at hand already: what a record in SQLite that outlives a kill costs at the least."""
    import sqlite3
    from contextlib import closing

    from whenvoca.engine.ledger.sqlite import SqliteLedger
    from whenvoca.engine.running.run_group import GROUP

    with closing(sqlite3.connect(ledger)) as kept:
        rows = {
            name: kept.execute(f"SELECT * FROM {name}").fetchall() for name in ("observations", "occurrences", "runs")
        }
        effects = kept.execute("SELECT *, number FROM effects").fetchall()
        things = kept.execute("SELECT * FROM things").fetchall()
        places = dict(kept.execute("SELECT sequence, place FROM observations"))
    half = len(rows["observations"]) // 2
    standing = [(places[each[0]], each[2], each[0]) for each in rows["observations"]]
    SqliteLedger(target).close()

    def work() -> None:
        with closing(sqlite3.connect(target, isolation_level=None)) as db:
            db.execute("PRAGMA synchronous=FULL")
            db.execute("PRAGMA wal_autocheckpoint=8000")

            def put(*statements: tuple[str, Sequence[tuple[object, ...]]]) -> None:
                db.execute("BEGIN IMMEDIATE")
                for statement, values in statements:
                    db.executemany(statement, values)
                db.execute("COMMIT")

            def all_of(table: str, values: Sequence[tuple[object, ...]]) -> tuple[str, Sequence[tuple[object, ...]]]:
                return f"INSERT OR REPLACE INTO {table} VALUES ({','.join('?' * len(values[0]))})", values

            put(all_of("observations", rows["observations"][:half]), all_of("standing", standing[:half]))
            put(all_of("occurrences", [(*each[:9], "waiting", 0, *each[11:]) for each in rows["occurrences"]]))
            done = "UPDATE effects SET state=?, receipt=? WHERE number=?"
            for begin in range(0, half, GROUP):
                part = slice(begin, begin + GROUP)
                put(
                    all_of("runs", [(*each[:7], "begun", "", 0, *each[10:]) for each in rows["runs"][part]]),
                    ("UPDATE occurrences SET run=? WHERE number=?", [each[:2] for each in rows["runs"][part]]),
                )
                mine = {each[0] for each in rows["runs"][part]}
                made = [each for each in effects if each[1] in mine and each[6] == "create event"]
                told = [each for each in effects if each[1] in mine and each[6] != "create event"]
                put(all_of("effects", [(*each[:14], "intent", None, each[16]) for each in made]))
                put(
                    (done, [(each[14], each[15], each[0]) for each in made]),
                    all_of("things", things[part]),
                    all_of("effects", [(*each[:14], "intent", None, each[16]) for each in told]),
                )
            put(
                (done, [(each[14], each[15], each[0]) for each in effects if each[6] != "create event"]),
                all_of("observations", rows["observations"][half:]),
                all_of("standing", standing[half:]),
                (
                    "UPDATE runs SET outcome=?, milliseconds=? WHERE number=?",
                    [(e[7], e[9], e[0]) for e in rows["runs"]],
                ),
                ("UPDATE occurrences SET state=? WHERE number=?", [(e[9], e[0]) for e in rows["occurrences"]]),
            )

    return timed(work)


def first_and_second_run(rows: int = 10_000, repeats: int = 3) -> list[str]:
    """The first run into an empty folder, and a second one with nothing new."""
    firsts, limits, journals, seconds, touched, reads, processes, insides = [], [], [], [], [], [], [], []
    # one for all: a file system that just deleted 20,000 files makes new ones slowly
    with tempfile.TemporaryDirectory() as name:
        for turn in range(repeats):
            folder = Path(name) / str(turn)
            folder.mkdir()
            make_workspace(folder / "w", rows)
            sheet = folder / "w/requests.xlsx"
            read = read_bare(sheet)
            write = write_bare(folder / "bare", rows)
            firsts.append(command("run", "--quiet", folder=folder / "w"))
            assert len(list((folder / "w/domes").glob("*.ics"))) == rows
            limits.append(read + write + save_bare(sheet, folder / "saved.xlsx"))
            journals.append(limits[-1] + journal_bare(folder / "w/.whenvoca/ledger.sqlite", folder / "bare.sqlite"))
            reads.append(read_bare(sheet))
            seconds.append(command("run", "--quiet", folder=folder / "w"))
            processes.append(read_process(sheet))
            insides.append(run_inside(folder / "w"))
            touched.append(_run_after_touch(folder / "w"))
    first, limit, journal, read = (statistics.median(each) for each in (firsts, limits, journals, reads))
    second, again, process, inside = (statistics.median(each) for each in (seconds, touched, processes, insides))
    return [
        f"| first run, {rows:,} rows into an empty folder, the whole command | {first:.2f} s "
        f"| read + {rows:,} files with one sync + one save: {limit:.2f} s | {first / limit:.2f} × | 2.5 × |",
        f"| the same | {first:.2f} s | and a bare journal of it in SQLite: {journal:.2f} s | {first / journal:.2f} × "
        "| |",
        f"| second run, nothing new, in a process that has started | {inside:.3f} s | reading the sheet: {read:.3f} s "
        f"| {inside / read:.2f} × | 1.5 × |",
        f"| second run, nothing new, the whole command | {second:.2f} s | a process that reads the sheet: "
        f"{process:.2f} s "
        f"| {second / process:.2f} × | |",
        f"| a run after another program saved the file with the same rows (all read and compared) | {again:.2f} s "
        f"| a process that reads the sheet: {process:.2f} s | {again / process:.2f} × | |",
    ]


def _run_after_touch(folder: Path) -> float:
    """A run after the workbook was packed anew, so that its bytes differ and all rows have to be looked at."""
    path = folder / "requests.xlsx"
    with zipfile.ZipFile(path) as old:
        parts = [(entry, old.read(entry)) for entry in old.infolist()]
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as new:
        for entry, content in parts:
            new.writestr(entry.filename, content)
    os.utime(path, (1, 1))
    return command("run", "--quiet", folder=folder)


def memory(rows: int = 100_000) -> list[str]:
    """The largest resident size of a first run over 100,000 rows, and of the second run of a mirror over as many."""
    with tempfile.TemporaryDirectory() as name:
        folder, mirrored = Path(name) / "w", Path(name) / "m"
        make_workspace(folder, rows)
        first, spent = _largest_size(folder)
        make_workspace(mirrored, rows)
        (mirrored / "workflows/slot-requests.voca").write_text(MIRROR, encoding="utf-8")
        _largest_size(mirrored)
        _retitle(mirrored / "requests.xlsx", 10, "T")
        second, again = _largest_size(mirrored)
        read = subprocess.run(
            [sys.executable, "-c", READING_SIZE, str(mirrored / "requests.xlsx")],
            capture_output=True,
            text=True,
            check=True,
        )
        small = Path(name) / "s"
        make_workspace(small, 10_000)
        (small / "workflows/slot-requests.voca").write_text(MIRROR, encoding="utf-8")
        done = subprocess.run(
            [sys.executable, "-c", AGAIN, str(small), str(ROOT / "benchmarks")],
            capture_output=True,
            text=True,
            check=True,
        )
        early, late = (float(each) for each in done.stdout.split()[-2:])
    bare = int(read.stdout) / 1024
    year, years = _expansion_size(1), _expansion_size(50)
    return [
        f"| memory of a first run over {rows:,} rows ({spent:.0f} s) | {first:.0f} MB | | | 400 MB |",
        f"| memory of the second run of a mirror over {rows:,} rows, 10 changed ({again:.0f} s) | {second:.0f} MB "
        f"| a process that reads the sheet: {bare:.0f} MB | {second / bare:.2f} × | |",
        f"| memory of a process after 60 runs of a mirror over 10,000 rows, 10 changed each | {late:.0f} MB "
        f"| after 30 of them: {early:.0f} MB | {late / early:.2f} × | flat |",
        f"| memory of expanding 1,000 weekly series over 50 years | {years * 1000:.0f} kB | over one year: "
        f"{year * 1000:.0f} kB | | flat |",
    ]


AGAIN = """
import os, sys
from pathlib import Path
sys.path.insert(0, sys.argv[2])
from run import _retitle
from whenvoca.cli.main import run_command
folder = Path(sys.argv[1])
for turn in range(60):
    if turn:
        _retitle(folder / "requests.xlsx", 10, f"again {turn}")
    assert run_command(["run", "--quiet", "--workspace", str(folder)]) == 0
    if turn in (29, 59):
        size = int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
        print(size / 1e6)
"""


def _expansion_size(years: int) -> float:
    """The most memory that expanding a thousand weekly series takes, in MB: one after the other, as an agenda does."""
    import tracemalloc

    from whenvoca.calendars.recurrence import moments_between

    zone = ZoneInfo("Atlantic/Azores")
    low, high = datetime(2027, 1, 1, tzinfo=zone), datetime(2027 + years, 1, 1, tzinfo=zone)
    tracemalloc.start()
    for number in range(1000):
        moments_between("FREQ=WEEKLY", datetime(2026, 1, 1 + number % 28, number % 24, tzinfo=zone), low, high)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return peak / 1e6


def _largest_size(folder: Path) -> tuple[float, float]:
    """The largest resident size of a run, in MB, and its seconds."""
    script = "import resource,sys; from whenvoca.cli.main import run_command; s=run_command(sys.argv[1:]); "
    script += "print(s, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)"
    arguments = [sys.executable, "-c", script, "run", "--quiet", "--workspace", str(folder)]
    begin = time.perf_counter()
    done = subprocess.run(arguments, capture_output=True, text=True, check=True)
    status, kilobytes = done.stdout.split()[-2:]
    assert status == "0", done.stderr
    return int(kilobytes) / 1024, time.perf_counter() - begin


def start_up(repeats: int = 15) -> list[str]:
    """`whenvoca --version` beside importing click, and `check` of the demo."""
    click = [timed(lambda: subprocess.run([sys.executable, "-c", "import click"], check=True)) for _ in range(repeats)]
    version = [
        timed(lambda: subprocess.run([WHENVOCA, "--version"], check=True, capture_output=True)) for _ in range(repeats)
    ]
    with tempfile.TemporaryDirectory() as name:
        subprocess.run([WHENVOCA, "demo", "--keep-still", f"{name}/w"], check=True, capture_output=True)
        checks = [command("check", folder=Path(name) / "w") for _ in range(repeats)]
    bare, ours, check = statistics.median(click), statistics.median(version), statistics.median(checks)
    return [
        f"| `whenvoca --version` | {ours * 1000:.0f} ms | `python -c 'import click'`: {bare * 1000:.0f} ms | "
        f"{ours / bare:.2f} × | 1.6 × |",
        f"| `whenvoca check` of the demo | {check * 1000:.0f} ms | | | 400 ms |",
    ]


def expansion(repeats: int = 5) -> list[str]:
    """1,000 weekly series over a year, beside a plain loop of dateutil's rules."""
    from datetime import datetime
    from zoneinfo import ZoneInfo

    from dateutil.rrule import rrulestr

    from whenvoca.calendars.recurrence import moments_between

    zone = ZoneInfo("Atlantic/Azores")
    starts = [datetime(2026, 1, 1 + number % 28, number % 24, tzinfo=zone) for number in range(1000)]
    low, high = datetime(2027, 1, 1, 0, 0, 1, tzinfo=zone), datetime(2028, 1, 1, 0, 0, 1, tzinfo=zone)

    def ours() -> list[datetime]:
        return [each for start in starts for each in moments_between("FREQ=WEEKLY", start, low, high)]

    def plain() -> list[datetime]:
        return [each for start in starts for each in rrulestr("FREQ=WEEKLY", dtstart=start).between(low, high)]

    assert [each.timestamp() for each in ours()] == [each.timestamp() for each in plain()]
    mine = statistics.median(timed(ours) for _ in range(repeats))
    theirs = statistics.median(timed(plain) for _ in range(repeats))
    return [
        f"| 1,000 weekly series over a year | {mine * 1000:.0f} ms | a plain loop of dateutil: {theirs * 1000:.0f} ms "
        f"| {theirs / mine:.1f} × faster | 10 × |"
    ]


MIRROR = """
when requests gains, changes or loses a row

mirror event in domes
  title  Target
  start  Night-of at From
  end    Night-of at To
"""


MIRRORED = """
import sys, time
from pathlib import Path
sys.path.insert(0, sys.argv[2])
from run import _retitle, read_bare
from whenvoca.cli.main import run_command
folder, rows = Path(sys.argv[1]), int(sys.argv[3])
run_command(["check", "--workspace", str(folder)])  # everything imported, as in a process that is at work already
for turn in range(5):
    _retitle(folder / "requests.xlsx", rows, f"at work {turn} {sys.argv[4]}")
    read = read_bare(folder / "requests.xlsx")
    begin = time.perf_counter()
    assert run_command(["run", "--quiet", "--workspace", str(folder)]) == 0
    print("inside", time.perf_counter() - begin, (read + read_bare(folder / "requests.xlsx")) / 2)
"""


def _mirrored_inside(folder: Path, changed: int, turn: int) -> list[tuple[float, float]]:
    """Runs with so many changed rows each in a process that has started, each beside reading the sheet right before and
    after."""
    done = subprocess.run(
        [sys.executable, "-c", MIRRORED, str(folder), str(ROOT / "benchmarks"), str(changed), str(turn)],
        capture_output=True,
        text=True,
        check=True,
    )
    told = [line.split() for line in done.stdout.splitlines() if line.startswith("inside")]
    return [(float(run), float(read)) for _, run, read in told]


def mirror(rows: int = 10_000, changed: int = 10, repeats: int = 3) -> list[str]:
    """The second run of a mirror over 10,000 rows of which 10 changed, beside reading the sheet."""
    ours, reads, insides = [], [], []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "w"
        make_workspace(folder, rows)
        (folder / "workflows/slot-requests.voca").write_text(MIRROR, encoding="utf-8")
        command("run", "--quiet", folder=folder)
        for turn in range(repeats):
            _retitle(folder / "requests.xlsx", changed, f"T {turn}")
            reads.append(read_process(folder / "requests.xlsx"))
            ours.append(command("run", "--quiet", folder=folder))
            assert command("run", "--quiet", folder=folder)
            insides += _mirrored_inside(folder, changed, turn)
    mine, read = statistics.median(ours), statistics.median(reads)
    inside, bare = (statistics.median(each) for each in zip(*insides, strict=True))
    return [
        f"| second run of a mirror over {rows:,} rows, {changed} changed, in a process that has started | "
        f"{inside:.3f} s "
        f"| reading the sheet: {bare:.3f} s | {inside / bare:.2f} × | 2 × |",
        f"| second run of a mirror over {rows:,} rows, {changed} changed, the whole command | {mine:.2f} s "
        f"| a process that reads the sheet: {read:.2f} s | {mine / read:.2f} × | |",
    ]


def _retitle(path: Path, count: int, title: str) -> None:
    from whenvoca.places.sheet.grid import TabWrites
    from whenvoca.places.sheet.xlsx_file import XlsxFile

    cells = {(1 + number * 7, 7): title for number in range(count)}
    path.write_bytes(XlsxFile().patch(path.read_bytes(), {"Slots": TabWrites(cells=dict(cells))}))
    os.utime(path, (1, 1))


def server(
    events: int = int(os.environ.get("BENCH_EVENTS", "1000")), many: int = int(os.environ.get("BENCH_MANY", "5000"))
) -> list[str]:
    """Creations on a server beside a plain loop of PUTs, and one change found among many."""
    sys.path.insert(0, str(ROOT))
    from datetime import UTC, datetime, timedelta

    from tests.places.test_server import client_of, creation, event
    from tests.servers import running_radicale

    from whenvoca.calendars.writer import write_calendar
    from whenvoca.places.calendar.dav import DavCalendar

    os.environ["DAV"] = "alicepw"
    stamp, zone = datetime(2027, 1, 1, tzinfo=UTC), ZoneInfo("Atlantic/Azores")
    lines = []
    with tempfile.TemporaryDirectory() as name, running_radicale(Path(name)) as radicale:
        radicale.make("ours", "ours"), radicale.make("bare", "bare"), radicale.make("many", "many")
        made = [event(number) for number in range(events)]
        calendar = DavCalendar("domes", client_of(radicale.url), "ours", zone)
        ours = timed(lambda: calendar.apply([creation(each) for each in made], stamp))
        with radicale.client() as client:
            bodies = [(each.uid, write_calendar(each, stamp)) for each in made]

            def put_all() -> None:
                for uid, body in bodies:
                    assert (
                        client.put(f"/alice/bare/{uid}.ics", content=body, headers={"if-none-match": "*"}).status_code
                        == 201
                    )

            bare = timed(put_all)
            assert len(radicale.events("ours")) == len(radicale.events("bare")) == events
            lines.append(
                f"| {events:,} creations on a server over loopback | {ours:.1f} s | a plain loop of PUTs: {bare:.1f} s "
                f"| {ours / bare:.2f} × | 1.5 × |"
            )
            begin = b"BEGIN:VEVENT"
            pieces = [
                write_calendar(
                    event(
                        number,
                        start=event(0).start + timedelta(minutes=number),
                        end=event(0).end + timedelta(minutes=number),
                    ),
                    stamp,
                )
                for number in range(many)
            ]
            head = pieces[0][: pieces[0].index(begin)]
            inner = b"".join(each[each.index(begin) : each.index(b"END:VCALENDAR")] for each in pieces)
            client.request("DELETE", "/alice/many/")
            answer = client.put(
                "/alice/many/",
                content=head + inner + b"END:VCALENDAR\r\n",
                headers={"content-type": "text/calendar"},
                timeout=300,
            )
            assert answer.status_code in (200, 201), answer.text
            place = DavCalendar("domes", client_of(radicale.url), "many", zone)
            look = place.look({}, "")
            known = {key: resource for key, (resource, _) in look.changed.items()}
            assert len(known) == many
            times, bares, requests = [], [], 0
            for turn in range(3):
                target = list(known)[100 + turn]
                text = client.get(target).text
                client.put(target, content=text.replace("SUMMARY:", f"SUMMARY:{turn} "))
                fresh = client_of(radicale.url)
                seen = DavCalendar("domes", fresh, "many", zone)
                state = look.cursor
                bares.append(timed(lambda: _bare_sync(client, state)))  # noqa: B023
                begin_time = time.perf_counter()
                look = seen.look(known, state)
                times.append(time.perf_counter() - begin_time)
                requests = fresh.requests
                assert list(look.changed) == [target]
                known |= {key: resource for key, (resource, _) in look.changed.items()}
    mine, limit = statistics.median(times), statistics.median(bares)
    lines.append(
        f"| 1 change found among {many:,} events on the server, {requests} requests | {mine * 1000:.0f} ms "
        f"| a bare client that does just that: {limit * 1000:.0f} ms | {mine / limit:.2f} × | 2 ×, at most 3 requests |"
    )
    return lines


def _bare_sync(client: object, cursor: str) -> None:
    """A sync-collection and a multiget, nothing else."""
    import json
    import re

    state = json.loads(cursor)
    body = (
        "<sync-collection "
        f'xmlns="DAV:"><sync-token>{state["token"]}</sync-token><sync-level>1</sync-level><prop><getetag/></prop></sync-collection>'
    )
    answer = client.request("REPORT", state["url"], content=body, headers={"content-type": "application/xml"})  # type: ignore[attr-defined]
    hrefs = re.findall(r"<href>([^<]+)</href>", answer.text)
    body = (
        '<C:calendar-multiget xmlns="DAV:" '
        'xmlns:C="urn:ietf:params:xml:ns:caldav"><prop><getetag/><C:calendar-data/></prop>'
    )
    body += "".join(f"<href>{href}</href>" for href in hrefs) + "</C:calendar-multiget>"
    client.request("REPORT", state["url"], content=body, headers={"content-type": "application/xml", "depth": "1"})  # type: ignore[attr-defined]


PAGE = ROOT / "docs/benchmarks.md"


WATCH_SETTINGS = """
[workspace]
name = "Bench"
root = "00000000-0000-4000-8000-000000000001"
zone = "Atlantic/Azores"
[places.cal]
kind = "calendar"
folder = "cal"
[places.log]
kind = "sheet"
file = "log.csv"
create = true
"""
WATCH_WORKFLOW = """when cal begins an event
  where  title begins with "soon"

add row to log
  What  event.title
"""


def make_calendar(folder: Path, events: int) -> None:
    """A calendar of so many events over the coming year, a tenth of them weekly series."""
    from whenvoca.calendars.event import Event
    from whenvoca.calendars.writer import write_calendar

    (folder / "cal").mkdir(parents=True)
    (folder / "workflows").mkdir()
    (folder / "whenvoca.toml").write_text(WATCH_SETTINGS, encoding="utf-8")
    (folder / "workflows/starts.voca").write_text(WATCH_WORKFLOW, encoding="utf-8")
    zone, stamp = ZoneInfo("Atlantic/Azores"), datetime(2026, 1, 1, tzinfo=UTC)
    first = datetime.now(zone).replace(microsecond=0) + timedelta(days=1)
    for number in range(events):
        start = first + timedelta(hours=number % 8000, minutes=number % 60)
        event = Event(
            uid=f"e{number:06}",
            title=f"E {number}",
            start=start,
            end=start + timedelta(hours=1),
            rule="FREQ=WEEKLY" if number % 10 == 0 else "",
        )
        (folder / f"cal/e{number:06}.ics").write_bytes(write_calendar(event, stamp))


def put_soon(folder: Path, name: str, start: datetime) -> None:
    """An event that the workflow waits for."""
    from whenvoca.calendars.event import Event
    from whenvoca.calendars.writer import write_calendar

    event = Event(uid=name, title=f"soon {name}", start=start, end=start + timedelta(hours=1))
    temporary = folder / f"cal/.{name}.part"
    temporary.write_bytes(write_calendar(event, datetime(2026, 1, 1, tzinfo=UTC)))
    os.replace(temporary, folder / f"cal/{name}.ics")


def parse_all(folder: Path) -> float:
    """Parsing every file once with the iCalendar library."""
    from icalendar import Calendar

    def work() -> None:
        for path in sorted((folder / "cal").glob("*.ics")):
            Calendar.from_ical(path.read_bytes())

    return timed(work)


def next_start_after_a_change(folder: Path, repeats: int = 30) -> tuple[float, float]:
    """Seconds of the search for starts after one change, and of reading that one change."""
    from whenvoca.calendars.reader import read_events
    from whenvoca.engine.clock import RealClock
    from whenvoca.engine.ledger.sqlite import SqliteLedger
    from whenvoca.engine.running.open_program import open_program
    from whenvoca.open_workspace import open_workspace

    opened = open_workspace(folder, RealClock())
    (workflow,) = opened.check().workflows
    ledger = SqliteLedger(folder / ".whenvoca/ledger.sqlite")
    program = open_program(workflow, opened.stage(ledger))
    (source,) = program.sources.values()
    searches, readings = [], []
    for number in range(repeats):
        path = folder / f"cal/e{number * 10:06}.ics"
        path.write_bytes(path.read_bytes().replace(b"SUMMARY:E", b"SUMMARY:F"))
        source.observe(opened.clock.now())
        text = path.read_bytes()
        readings.append(timed(partial(read_events, text, opened.workspace.zone)))
        searches.append(timed(partial(program.take_up, source)))
    ledger.close()
    return statistics.median(searches), statistics.median(readings)


def bare_lateness(count: int, gap: float) -> list[float]:
    """How late a plain timer wakes."""
    import threading

    event, found = threading.Event(), []
    for _ in range(count):
        due = time.time() + gap
        event.wait(due - time.time())
        found.append(time.time() - due)
    return found


def watch_benchmark(events: int = 100_000, starts: int = 100) -> list[str]:
    """Cold start of `watch`, the search for the next start, lateness, idleness, and a thousand changes a minute."""
    import sqlite3

    import psutil

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "w"
        make_calendar(folder, events)
        parsing = parse_all(folder)
        begin = time.perf_counter()
        process = subprocess.Popen(
            [WHENVOCA, "watch", "--quiet", "--workspace", str(folder)], stdout=subprocess.DEVNULL
        )
        while not (folder / ".whenvoca/watch.json").exists():
            time.sleep(0.05)
        cold = time.perf_counter() - begin
        seen = psutil.Process(process.pid)
        time.sleep(5)
        spent, clock = sum(seen.cpu_times()[:2]), time.perf_counter()
        time.sleep(60)
        idle = (sum(seen.cpu_times()[:2]) - spent) / (time.perf_counter() - clock)
        resident = seen.memory_info().rss
        first = datetime.now(UTC).replace(microsecond=0) + timedelta(seconds=15)
        for number in range(starts):
            put_soon(folder, f"s{number:03}", first + timedelta(seconds=number // 2, milliseconds=0))
        time.sleep(15 + starts / 2 + 3)
        bare = bare_lateness(starts, 0.05)
        before = time.perf_counter()
        for number in range(1000):
            path = folder / f"cal/e{number:06}.ics"
            path.write_bytes(path.read_bytes().replace(b"SUMMARY:E", b"SUMMARY:G"))
            time.sleep(max(0.0, before + number * 0.06 - time.perf_counter()))
        lag = time.perf_counter()
        database = sqlite3.connect(folder / ".whenvoca/ledger.sqlite")
        wanted = (
            "SELECT count(*) FROM standing s JOIN observations o ON o.sequence=s.sequence WHERE o.state LIKE "
            '\'%"title":"G %\''
        )
        while database.execute(wanted).fetchone()[0] < 1000:
            time.sleep(0.1)
        lag = time.perf_counter() - lag
        rows = database.execute(
            "SELECT c.at, r.started FROM runs r JOIN occurrences c ON c.number=r.occurrence WHERE r.label LIKE 'soon%'"
        )
        late = sorted((datetime.fromisoformat(b) - datetime.fromisoformat(a)).total_seconds() for a, b in rows)
        database.close()
        process.terminate()
        process.wait(60)
        search, reading = next_start_after_a_change(folder)
    worst, plain = late[int(len(late) * 0.99) - 1], sorted(bare)[int(len(bare) * 0.99) - 1]
    return [
        f"| cold start on {events:,} events, a tenth of them series | {cold:.0f} s | parsing them once: {parsing:.0f} "
        "s "
        f"| {cold / parsing:.2f} × | 3 × |",
        f"| search for the next start after one change among them | {search * 1000:.1f} ms | reading that change: "
        f"{reading * 1000:.1f} ms "
        f"| {search / reading:.2f} × | 1 × |",
        f"| lateness of {len(late)} starts, p99 | {worst * 1000:.1f} ms | a bare timer: {plain * 1000:.1f} ms "
        f"| {(worst - plain) * 1000:+.0f} ms | +50 ms |",
        f"| idle for a minute | {idle * 100:.2f} % of a core, {resident / 1e6:.0f} MB | | | 1 %, 150 MB |",
        f"| 1,000 changes within a minute, until the last one was seen | {lag:.1f} s after it | | | sustained |",
    ]


def speech(events: int = 1000) -> list[str]:
    """Reading requests among an agenda of so many events, the corpus of the tests; and what its import takes."""
    sys.path.insert(0, str(ROOT))
    from tests.speech import corpus

    from whenvoca.calendars.event import Event
    from whenvoca.speech.request import Surroundings, Target
    from whenvoca.speech.understanding import understand

    titles = ("Sea School visit", "Mirror wash", "Council call", "Lens test", "Tour", "Star party", "Telescope loan")
    agenda = list(corpus.AGENDA)
    for number in range(events - len(agenda)):
        begin = datetime(2027, 1, 1, 10, tzinfo=corpus.AZORES) + timedelta(days=number % 365, hours=number % 9)
        rule = "FREQ=WEEKLY" if number % 20 == 0 else ""
        made = Event(
            uid=f"x{number}",
            title=f"{titles[number % 7]} {number}",
            start=begin,
            end=begin + timedelta(hours=1),
            rule=rule,
        )
        agenda.append(Target("domes", made))
    spent = []
    for half in corpus.load():
        for case in half:
            last = [each for each in corpus.AGENDA if each.event.uid == case.last]
            around = Surroundings(corpus.NOW, corpus.AZORES, agenda, corpus.PEOPLE, "day first", last=last)
            spent.append(timed(lambda text=case.text, around=around: understand(text, around)))  # type: ignore[misc]
    spent.sort()
    median, high = statistics.median(spent) * 1000, spent[int(len(spent) * 0.95)] * 1000
    code = "import time; t = time.perf_counter(); import whenvoca.speech.understanding; print(time.perf_counter() - t)"
    imports = [
        float(subprocess.run([sys.executable, "-c", code], capture_output=True, check=True).stdout) for _ in range(9)
    ]
    return [
        f"| a request in words among {events:,} events, median of {len(spent):,} texts | {median:.1f} ms | 95th "
        f"percentile: {high:.1f} ms | | 10 ms, 40 ms |",
        f"| import of the reader | {statistics.median(imports) * 1000:.0f} ms | | | 60 ms |",
    ]


BENCHMARKS: dict[str, Callable[[], list[str]]] = {
    "runs": first_and_second_run,
    "memory": memory,
    "start": start_up,
    "expansion": expansion,
    "mirror": mirror,
    "server": server,
    "watch": watch_benchmark,
    "speech": speech,
}


def main() -> None:
    """Runs those named, or all; the page keeps the lines of the others."""
    compileall.compile_dir(ROOT / "src", quiet=1)  # as an installed package is, whatever the environment says
    names = sys.argv[1:] or list(BENCHMARKS)
    fresh = {name: [f"| {name} {line}" for line in BENCHMARKS[name]()] for name in names}
    kept = PAGE.read_text(encoding="utf-8").splitlines() if PAGE.exists() else []
    lines = [
        line
        for name in BENCHMARKS
        for line in fresh.get(name) or [each for each in kept if each.startswith(f"| {name} |")]
    ]
    head = [
        "# Benchmarks",
        "",
        "`make bench` measures them all, `python benchmarks/run.py NAME` one part; every figure stands beside its "
        "bare limit, taken in",
        "the same run. Medians.",
        f"Machine: {os.cpu_count()} cores, {platform.system()} {platform.machine()}, Python "
        f"{platform.python_version()}.",
        "The first run misses its mark. The line below it tells what a journal of the same content takes by itself: "
        "together with the",
        "start of the program it leaves at most 25 µs a row for all else within that mark. The machine's speed "
        "changed by a factor of two",
        "from one minute to the next, and its file system makes files slowly for a while after many were deleted.",
        "",
        "| part | what | measured | limit | ratio | wanted |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    tail = kept[next((i for i, line in enumerate(kept) if line.startswith("## ")), len(kept)) :]  # written by hand
    print("\n".join(line for name in names for line in fresh[name]))
    PAGE.write_text("\n".join([*head, *lines, "", *tail]).rstrip() + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
