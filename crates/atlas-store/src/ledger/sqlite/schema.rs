//! The tables of the ledger.

use std::path::Path;

use rusqlite::Connection;

use crate::error::StoreError;

/// The format that this version writes.
const FORMAT: i64 = 13;

const PAGE_TABLES: &str = "
-- what was learnt of files that sources read
create table page (
    source text not null, path text not null,
    size integer not null, modified integer not null, row blob not null,
    links blob not null,            -- packed
    validators text not null,       -- what tells whether it is still the same, besides size and time
    primary key (source, path)
) without rowid;
create table page_settings (source text primary key, settings integer not null, note text) without rowid;
";

const TABLES: &str = "
create table fact (name text primary key, value text not null) without rowid;

-- which sources entries come from, and how each maps its fields: JSON; entries name them by number
create table provenance (number integer primary key, mappings text not null);

-- what was derived from entries: the rows of archive pages, and the groups of some entries
create table derived (rows blob not null, translations blob not null);

-- why entries were left out, 9 bytes for each
create table left_out (entries blob not null);

-- a sitemap file: which entries it holds is in its segments
create table file (
    id integer primary key,
    section text not null, strand text not null, number integer not null,
    most_urls integer not null, most_bytes integer not null, most_media integer not null,
    changed integer not null,       -- when its content last changed, seconds since 1970
    crc integer not null, size integer not null,   -- of the unpacked file
    unique (section, strand, number)
);
-- the number the next file of a section gets; numbers are never given twice
create table next_number (
    section text not null, strand text not null, number integer not null,
    primary key (section, strand)
) without rowid;

-- every file in the web root that is ours
create table output (
    name text primary key,
    size integer not null, modified integer not null, crc integer not null,
    retired integer,                -- when it left the index, seconds since 1970
    made integer not null,          -- the run that first wrote it
    changed integer not null        -- the run that last changed its content
) without rowid;
-- files that a build has begun to write; empty again when it ends
create table planned (name text primary key) without rowid;

create table run (
    id integer primary key,
    at integer not null,
    entries integer not null, added integer not null, changed integer not null, removed integer not null,
    left_out integer not null, files_written integer not null,
    files integer not null, bytes integer not null, warnings integer not null,
    took_ms integer not null, started_by text not null,
    gzip text not null              -- whether files were compressed: beside, only, off
);
-- builds that did not go through, and why
create table attempt (
    id integer primary key, at integer not null, ended text not null, reason text not null, started_by text not null
);
-- the reports of the last runs: JSON, as build printed it. Apart, so that old ones leave no holes
create table report (run integer primary key, report text not null);
-- the URLs that came, changed and went with a run: one in a line, compressed
create table run_url (
    run integer not null, kind text not null, count integer not null, size integer not null, urls blob not null,
    primary key (run, kind)
);

-- entries that are gone
create table tombstone (
    key blob primary key, url text not null, section text not null, title text, run integer not null,
    cause text                      -- null if engines are not told
) without rowid;
-- what entries were like when they left: one that is back as it was is no news to engines that have not been told meanwhile
create table departure (
    key blob primary key, run integer not null, changed integer not null, page integer not null, declared integer not null
) without rowid;
-- the keys of the entries that came in with a run, 16 bytes each, until every engine knows
create table addition (run integer primary key, keys blob not null);
-- how far an engine has been told: all up to and including run watermark, and of later runs; last_told is the last of them
create table engine (
    name text primary key, watermark integer not null, runs text not null, last_told integer not null, not_before integer,
    was_told integer not null,
    failures integer not null, retry_at integer, baseline integer not null,
    retired integer                 -- a fingerprint of the endpoint that has given up being told
) without rowid;
-- URLs that an engine was told of a short time ago, and those of them that have changed again since
create table told_url (
    engine text not null, key blob not null, url text not null, at integer not null, run integer not null, waits text,
    primary key (engine, key)
) without rowid;
-- URLs that the user submitted in a console: the last run at that time
create table submitted_url (key blob primary key, url text not null, at integer not null, run integer not null) without rowid;
-- sitemap files that the user submitted in a console
create table submitted_file (
    console text not null, address text not null, at integer not null, primary key (console, address)
) without rowid;
create table announcement (
    id integer primary key,
    engine text not null, at integer not null, run integer not null, urls integer not null,
    status integer, outcome text not null, words text not null, examples text not null
);
create index announcement_engine on announcement (engine, id);

-- what is known of crawlers' visits, in parts
create table visits (part text primary key, value blob not null) without rowid;
-- what the exports of consoles said: facts are JSON
create table look (
    id integer primary key, engine text not null, subject text not null, at integer not null, facts text not null
);
-- and of each URL; only of the last two of an engine and subject
create table look_record (look integer primary key, records blob not null);
-- what searchers did with URLs, by engine, subject and day
create table numbers (
    engine text not null, subject text not null, day integer not null, records blob not null,
    primary key (engine, subject, day)
);
";

const SEGMENT_TABLES: &str = "
create table segment (
    file integer not null, number integer not null,
    count integer not null, size integer not null, crc integer not null,
    images integer not null, videos integer not null,
    newest text,                    -- the newest date in it
    frame integer not null,         -- the namespaces it needs, as bits
    content integer not null,
    primary key (file, number)
) without rowid;
-- what segments hold
create table content (
    id integer primary key,
    lane_crc integer not null,
    lane blob not null,
    raws blob not null,             -- by which rows are known unread, 8 bytes an entry; none where no row is
    body blob not null              -- last, so that lanes are read without it
);
";

const STRETCH_TABLES: &str = "
-- rows of tables that follow one another and need not be looked at as long as they are the same
create table stretch (
    print integer primary key,      -- of their bytes, and of how they are read
    rows integer not null,          -- that need not be looked at
    rest blob not null,             -- where in it the others begin and end, 4 bytes each
    members integer not null, members_print integer not null
);
-- whose rows they are: 8 bytes of each key. Apart, because an edited row has the same
create table members (id integer primary key, rest blob not null, quiet blob not null);
-- what their rows contribute to what is derived from entries: counts of archives, and blocking keys
create table share (print integer primary key, counts blob not null, keys blob not null);
-- the archives that these count
create table archive (number integer primary key, kind integer not null, slug text not null, name text not null);
";

/// Creates the tables if they do not exist.
pub(super) fn prepare(connection: &Connection, path: &Path) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    if found == 0 {
        // Most of the ledger consists of segments of some 20 KB.
        connection.pragma_update(None, "page_size", 16_384)?;
        connection.execute_batch(&format!(
            "begin; {TABLES} {SEGMENT_TABLES} {STRETCH_TABLES} {PAGE_TABLES} pragma user_version = {FORMAT}; commit;"
        ))?;
        return Ok(());
    }
    check(connection, path)
}

/// Rejects a ledger in another format.
pub(super) fn check(connection: &Connection, path: &Path) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    if found != FORMAT {
        return Err(StoreError::LedgerFormat { path: path.to_owned(), found, known: FORMAT });
    }
    Ok(())
}
