"""The tables of the SQLite ledger, and how a ledger of an older version is brought up to date."""

from __future__ import annotations

VERSION = 7

# Of rows that are known without being read: since version 4.
PRINTS = """
CREATE TABLE prints (          -- MessagePack: the prints of a sheet's rows, as of that newest observation
    place TEXT PRIMARY KEY, sequence INTEGER NOT NULL, packed BLOB NOT NULL
) WITHOUT ROWID;
"""

# Of triggers by time, of presence, pauses and jobs: since version 3.
TIMES = """
CREATE TABLE marks (           -- up to which moment a workflow has looked for starts at a place, or at the clock
    workflow TEXT NOT NULL, place TEXT NOT NULL, at TEXT NOT NULL,
    PRIMARY KEY (workflow, place)
) WITHOUT ROWID;
CREATE TABLE starts (          -- the next moment of each UID that a workflow waits for
    workflow TEXT NOT NULL, place TEXT NOT NULL, uid TEXT NOT NULL, due TEXT NOT NULL,
    PRIMARY KEY (workflow, place, uid)
) WITHOUT ROWID;
CREATE INDEX starts_due ON starts (workflow, due);
CREATE TABLE claims (
    number INTEGER PRIMARY KEY,  -- that of the effect which made it
    place TEXT NOT NULL, person TEXT NOT NULL, run INTEGER NOT NULL, workflow TEXT NOT NULL, shown TEXT NOT NULL,
    until TEXT NOT NULL, event_place TEXT NOT NULL, event_key TEXT NOT NULL, event_field TEXT NOT NULL,
    ended INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX claims_standing ON claims (place, person) WHERE NOT ended;
CREATE TABLE presences (       -- of whom a claim holds: what was shown before, and what we last wrote
    place TEXT NOT NULL, person TEXT NOT NULL, before TEXT NOT NULL, shown TEXT NOT NULL,
    PRIMARY KEY (place, person)
) WITHOUT ROWID;
CREATE TABLE pauses (workflow TEXT PRIMARY KEY, since TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE jobs (
    number INTEGER PRIMARY KEY, arguments TEXT NOT NULL, state TEXT NOT NULL, code INTEGER NOT NULL DEFAULT 0,
    out TEXT NOT NULL DEFAULT '', err TEXT NOT NULL DEFAULT ''
);
"""

# Of forms and web calls: since version 6.
INTAKE = """
CREATE TABLE numbers (place TEXT PRIMARY KEY, last INTEGER NOT NULL) WITHOUT ROWID;  -- given to entries and calls
CREATE TABLE entries (         -- what each entry, or what calls are about, says now
    place TEXT NOT NULL, subject TEXT NOT NULL, number INTEGER NOT NULL, at TEXT NOT NULL,
    state TEXT,                -- JSON; NULL: withdrawn, or gone
    refused INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (place, subject)
) WITHOUT ROWID;
CREATE TABLE arrivals (        -- each change of these, to be observed
    sequence INTEGER PRIMARY KEY, place TEXT NOT NULL, subject TEXT NOT NULL, at TEXT NOT NULL, state TEXT
);
CREATE INDEX arrivals_of_place ON arrivals (place, sequence);
CREATE TABLE repeats (         -- what comes again is known by this
    place TEXT NOT NULL, once TEXT NOT NULL, subject TEXT NOT NULL, at TEXT NOT NULL,
    PRIMARY KEY (place, once)
) WITHOUT ROWID;
"""

# Of what came in last, as it was sent: since version 7.
SAMPLES = """
CREATE TABLE samples (place TEXT PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, body TEXT NOT NULL) WITHOUT ROWID;
"""

# What brings a ledger of an earlier version up to the next one.
STEPS = {
    1: """
ALTER TABLE readers ADD COLUMN signature TEXT NOT NULL DEFAULT '';
ALTER TABLE occurrences ADD COLUMN tries INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN kind TEXT NOT NULL DEFAULT 'run';
ALTER TABLE runs ADD COLUMN undoes INTEGER;
ALTER TABLE runs ADD COLUMN undone INTEGER;
ALTER TABLE effects ADD COLUMN kept TEXT NOT NULL DEFAULT '';
ALTER TABLE things ADD COLUMN base TEXT;
CREATE INDEX runs_of_subject ON runs (workflow, subject, number);
CREATE INDEX runs_unwell ON runs (workflow, subject) WHERE outcome = 'failed' OR undone IS NOT NULL;
CREATE TABLE resources (
    place TEXT NOT NULL, name TEXT NOT NULL, uid TEXT NOT NULL, version TEXT NOT NULL, stamp TEXT NOT NULL,
    PRIMARY KEY (place, name)
) WITHOUT ROWID;
CREATE TABLE reads (
    run INTEGER NOT NULL, step TEXT NOT NULL, ordinal INTEGER NOT NULL, found TEXT NOT NULL,
    PRIMARY KEY (run, step, ordinal)
) WITHOUT ROWID;
""",
    2: TIMES,
    3: PRINTS + "DROP INDEX IF EXISTS occurrences_of_subject;",
    4: "ALTER TABLE things ADD COLUMN made INTEGER;",
    5: INTAKE,
    6: SAMPLES,
}

TABLES = (
    TIMES
    + PRINTS
    + INTAKE
    + SAMPLES
    + """
CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE cursors (place TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE observations (
    sequence INTEGER PRIMARY KEY,
    place TEXT NOT NULL,
    subject TEXT NOT NULL,
    previous INTEGER,          -- the observation before it of the same subject, NULL if it did not stand
    state TEXT,                -- JSON; NULL: it went
    seen_at TEXT NOT NULL,
    cause INTEGER              -- the run that made it, NULL for another hand
);
CREATE INDEX observations_of_place ON observations (place, sequence);
CREATE TABLE standing (
    place TEXT NOT NULL, subject TEXT NOT NULL, sequence INTEGER NOT NULL,
    PRIMARY KEY (place, subject)
) WITHOUT ROWID;
CREATE TABLE readers (
    workflow TEXT NOT NULL, place TEXT NOT NULL, sequence INTEGER NOT NULL,
    signature TEXT NOT NULL DEFAULT '',  -- of a mirror: what it was when it last looked
    PRIMARY KEY (workflow, place)
) WITHOUT ROWID;
CREATE TABLE occurrences (
    number INTEGER PRIMARY KEY,
    workflow TEXT NOT NULL,
    place TEXT NOT NULL,
    subject TEXT NOT NULL,
    label TEXT NOT NULL,
    sequence INTEGER NOT NULL,
    at TEXT NOT NULL,
    happened TEXT NOT NULL,
    chain TEXT NOT NULL,       -- workflows that led to it, separated by blanks
    state TEXT NOT NULL,       -- waiting, done, failed, dropped, undone, missed
    run INTEGER NOT NULL DEFAULT 0,
    tries INTEGER NOT NULL DEFAULT 0,  -- how often trouble at a place has ended a try
    UNIQUE (workflow, place, subject, sequence)
);
CREATE INDEX occurrences_waiting ON occurrences (workflow, number) WHERE state = 'waiting';
CREATE TABLE runs (
    number INTEGER PRIMARY KEY,
    occurrence INTEGER NOT NULL,
    workflow TEXT NOT NULL,
    place TEXT NOT NULL,
    subject TEXT NOT NULL,
    label TEXT NOT NULL,
    started TEXT NOT NULL,
    outcome TEXT NOT NULL,     -- begun, waiting, done, failed, missed, dropped
    reason TEXT NOT NULL DEFAULT '',
    milliseconds INTEGER NOT NULL DEFAULT 0,
    kind TEXT NOT NULL DEFAULT 'run',  -- run, undo, presence
    undoes INTEGER,            -- of an undo: the run that it takes back
    undone INTEGER             -- the undo that took it back
);
CREATE INDEX runs_of_subject ON runs (workflow, subject, number);
CREATE INDEX runs_unwell ON runs (workflow, subject) WHERE outcome = 'failed' OR undone IS NOT NULL;
CREATE TABLE effects (
    number INTEGER PRIMARY KEY,
    run INTEGER NOT NULL,
    step TEXT NOT NULL,
    repetition TEXT NOT NULL,
    ordinal INTEGER NOT NULL,
    place TEXT NOT NULL,
    verb TEXT NOT NULL,
    target TEXT NOT NULL,
    lineage TEXT NOT NULL,
    thing INTEGER NOT NULL,
    version TEXT NOT NULL,
    before TEXT,
    after TEXT,
    notes TEXT NOT NULL,
    state TEXT NOT NULL,       -- intent, done, failed
    receipt TEXT,              -- version, a blank, address; or the reason of a failure
    kept TEXT NOT NULL DEFAULT ''  -- what stood there whole, as iCalendar
);
CREATE INDEX effects_of_run ON effects (run);
CREATE TABLE things (
    place TEXT NOT NULL, lineage TEXT NOT NULL, thing INTEGER NOT NULL, uid TEXT NOT NULL, version TEXT NOT NULL,
    base TEXT,                 -- JSON: what a mirror last wrote
    made INTEGER,              -- the observation that it was made for, where its run is forgotten
    PRIMARY KEY (place, lineage, thing)
) WITHOUT ROWID;
CREATE TABLE saves (
    number INTEGER PRIMARY KEY, file TEXT NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL, effects TEXT NOT NULL,
    state TEXT NOT NULL        -- intent, done, undone
);
CREATE TABLE resources (       -- the pieces of a calendar as it was last looked at
    place TEXT NOT NULL, name TEXT NOT NULL, uid TEXT NOT NULL, version TEXT NOT NULL, stamp TEXT NOT NULL,
    PRIMARY KEY (place, name)
) WITHOUT ROWID;
CREATE TABLE reads (           -- what look-ups of a run found
    run INTEGER NOT NULL, step TEXT NOT NULL, ordinal INTEGER NOT NULL, found TEXT NOT NULL,
    PRIMARY KEY (run, step, ordinal)
) WITHOUT ROWID;
"""
)
