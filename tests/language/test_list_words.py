"""Lists that are sorted, cut and grouped, in a workflow."""

from __future__ import annotations

import pytest

from tests.conftest import SETTINGS, Desk

PLACES = """
[places.jobs]
kind = "sheet"
file = "jobs.csv"
key = "Nr"
[places.log]
kind = "sheet"
file = "log.csv"
create = true
kinds = { What = "text" }
"""
ROWS = "Nr,Title,Place,Hours,Sort\n1,b,West,2,u\n2,a,East,5,v\n3,C,East,1,u\n4,d,,3,v\n5,a,West,2,u\n"
TABLE = [
    ("each r in all sort by Title: r.Nr", "2 5 1 3 4"),
    ("each r in all sort by Hours falling: r.Nr", "2 4 1 5 3"),
    ("each r in all sort by Place then Hours falling: r.Nr", "2 3 1 5 4"),
    ("each r in all sort by r.Place then r.Hours: r.Nr", "3 2 1 5 4"),
    ("each r in all sort by Place falling: r.Nr", "1 5 2 3 4"),
    ("each r in all sort by Hours * 2 + Nr falling: r.Nr", "2 4 5 1 3"),
    ("each r in all top 2: r.Nr", "1 2"),
    ("each r in all sort by Hours top 1 + 1: r.Nr", "3 1"),
    ("each r in all sort by Sort: r.Nr", "1 3 5 2 4"),
    ("(each r in all: r.Title) unique", "b a C d"),
    ('each g in group all by Place: "{g.name}={count(g.items)}"', "West=2 East=2 =1"),
    ('each g in group all sort by Hours by Sort: "{g.name}{first(g.items).Nr}"', "u3 v4"),
    ("each r in all where r.Hours > 1: r.Nr", "1 2 4 5"),
]


@pytest.mark.parametrize(("value", "wanted"), TABLE, ids=[each[0] for each in TABLE])
def test_lists_are_sorted_cut_and_grouped(desk: Desk, value: str, wanted: str) -> None:
    desk.settings(SETTINGS, PLACES)
    desk.write("jobs.csv", ROWS)
    desk.workflow(
        f'when asked\n\nfind rows in jobs as all\nlet found = {value}\nadd row to log\n  What  join(found, " ")\n'
    )
    done = desk.run("run", "slots")
    assert done.code == 0, done
    assert desk.read("log.csv").splitlines()[1].strip('"') == wanted


FAULTS = [
    ("3 sort by Nr", "sort by takes a list, and this is a number"),
    ('all top "x"', "behind top stands a number, and this is a text"),
    ("all sort by Nothing", 'there is no name "Nothing"'),
    ("group all", '"by" is missing here'),
]


@pytest.mark.parametrize(("value", "said"), FAULTS)
def test_what_is_no_list_is_a_fault(desk: Desk, value: str, said: str) -> None:
    desk.settings(SETTINGS, PLACES)
    desk.write("jobs.csv", ROWS)
    desk.workflow(
        f"when asked\n\nfind rows in jobs as all\nlet found = {value}\nadd row to log\n  What  count(found)\n"
    )
    told = desk.run("check")
    assert told.code == 1
    assert said in told.out
