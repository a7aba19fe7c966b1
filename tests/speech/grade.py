"""``python -m tests.speech.grade``: how well requests are read, each world by weights that never saw it.

Right at once, offered among three, asked about or declined, wrongly acted on; by world, kind and voice.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence

from tests.speech.email_training import Email
from tests.speech.email_training import outcome as email_outcome
from tests.speech.email_training import sureness as email_sureness
from tests.speech.training import FOLDS, OWN, Read, cross_read, load_lines, sureness
from tests.speech.worlds import HARD, ORDINARY, WORLDS


def outcome(read: Read, sure: float, least: float) -> str:
    """What comes of a line: right, offered, asked or wrong."""
    first = read.intents[0]
    if first == "none":
        return "right" if read.right[0] else "asked"
    if sure >= least:
        return "right" if read.right[0] else "wrong"
    offered = [right for right, intent in zip(read.right, read.intents, strict=True) if intent != "none"][:3]
    return "offered" if any(offered) else "asked"


def show(reads: Sequence[Read]) -> None:
    """Prints the tables."""
    table: dict[str, Counter[str]] = defaultdict(Counter)
    for read, (sure, least) in zip([each for each in reads if each.world != OWN], sureness(reads), strict=True):
        told = outcome(read, sure, least)
        hard = "the nine hard worlds" if read.world in HARD else "three worlds of ordinary people"
        for name in (hard, f"world {read.world}", f"kind {read.kind}", f"voice {read.voice}"):
            table[name][told] += 1
            table[name]["first right"] += read.right[0]
            table[name]["found"] += read.is_found
            table[name]["all"] += 1
    assert ORDINARY
    print(f"{'':36}{'lines':>6}{'right':>8}{'+offered':>9}{'asked':>8}{'wrong':>8}{'first':>8}{'found':>8}")
    for name in sorted(table, key=lambda each: (each.split()[0] in ("world", "kind", "voice"), each)):
        row = table[name]
        count = row["all"]
        shares = [
            row["right"],
            row["right"] + row["offered"],
            row["asked"],
            row["wrong"],
            row["first right"],
            row["found"],
        ]
        print(f"{name:36}{count:6}" + "".join(f"{100 * each / count:7.1f}%" for each in shares))
    times = sorted(each.seconds for each in reads)
    middle, late = (1000 * times[int(share * (len(times) - 1))] for share in (0.5, 0.95))
    print(f"a reading takes {middle:.1f} ms in the middle, {late:.1f} ms at 95 %")


def show_emails(emails: Sequence[Email]) -> None:
    """Prints what comes of emails."""
    told = Counter(email_outcome(email, weights, least) for email, weights, least in email_sureness(emails))
    found = sum(any(email.right) for email in emails)
    print(f"emails: {dict(told)} of {len(emails)}; of {found} some sentence is read rightly")


def main() -> None:
    """Reads every world and prints how well."""
    reads, emails = cross_read({name: load_lines(name) for name in [*WORLDS, OWN]}, FOLDS)
    show(reads)
    show_emails(emails)


if __name__ == "__main__":
    main()
