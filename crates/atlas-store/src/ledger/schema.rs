//! The tables of the ledger.

use std::path::Path;

use rusqlite::Connection;

use crate::error::StoreError;

/// The format that this version writes.
const FORMAT: i64 = 6;

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

/// From format 1, what was learnt of files is forgotten: it lacks what is kept of them now, and they are read again.
const DROP_PAGE_TABLES: &str = "drop table page; drop table page_settings;";

const TABLES: &str = "
create table fact (name text primary key, value text not null) without rowid;

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
    retired integer                 -- when it left the index, seconds since 1970
) without rowid;
-- files that a build has begun to write; empty again when it ends
create table planned (name text primary key) without rowid;

create table run (
    id integer primary key,
    at integer not null,
    entries integer not null, added integer not null, changed integer not null, removed integer not null,
    left_out integer not null, files_written integer not null,
    report text not null            -- JSON, as build printed it
);

-- entries that are gone, until every engine knows
create table tombstone (key blob primary key, url text not null, run integer not null, cause text not null) without rowid;
-- how far an engine has been told: all up to and including run watermark; of the runs up to target, all keys up to cursor
create table engine (
    name text primary key, watermark integer not null, target integer, cursor blob, not_before integer
) without rowid;
create table announcement (
    id integer primary key,
    engine text not null, at integer not null, run integer not null, urls integer not null,
    status integer, outcome text not null, words text not null, examples text not null
);
create index announcement_engine on announcement (engine, id);
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
    lane_crc integer,               -- of the lane; not known where an older format kept it
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
";

/// Before format 3, files had no limit on media.
const LIMIT_MEDIA: &str = "alter table file add column most_media integer not null default 20000;";
/// Before format 6, what segments hold was kept with them.
const SET_ASIDE: &str = "alter table segment rename to segment_before;";
const DONE: &str = "drop table segment_before;";

/// Takes segments over from an older format.
fn take_over(found: i64) -> String {
    // Before format 4, segments did not count all that they do now. They count none until they are made again, which the next
    // build does: what is written is fingerprinted in another way since.
    let (facts, content) = match found {
        1 | 2 => ("0, 0, null, images + 2 * videos", "null, lane, x'', body"),
        3 => ("0, 0, null, frame", "null, lane, x'', body"),
        _ => ("images, videos, newest, frame", "lane_crc, lane, raws, body"),
    };
    format!(
        "insert into content select rowid, {content} from segment_before;
         insert into segment select file, number, count, size, crc, {facts}, rowid from segment_before;"
    )
}

/// Makes the tables where there are none, and brings those of an older format up to this one.
pub(super) fn prepare(connection: &Connection, path: &Path) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    if found == 0 {
        // Most of the ledger is segments of some 20 KB.
        connection.pragma_update(None, "page_size", 16_384)?;
        connection.execute_batch(&format!(
            "begin; {TABLES} {SEGMENT_TABLES} {STRETCH_TABLES} {PAGE_TABLES} pragma user_version = {FORMAT}; commit;"
        ))?;
        return Ok(());
    }
    check(connection, path)?;
    if found < FORMAT {
        let pages = if found == 1 { [DROP_PAGE_TABLES, PAGE_TABLES].concat() } else { String::new() };
        let media = if found < 3 { LIMIT_MEDIA } else { "" };
        let stretches = if found < 5 { STRETCH_TABLES } else { "" };
        let take_over = take_over(found);
        connection.execute_batch(&format!(
            "begin; {pages} {media} {stretches} {SET_ASIDE} {SEGMENT_TABLES} {take_over} {DONE} pragma user_version = {FORMAT}; commit;"
        ))?;
        // What the older form took up is given back to the disk, if the disk has room for both while that is done.
        let _ = connection.execute_batch("vacuum");
    }
    Ok(())
}

/// Refuses a ledger of another format.
pub(super) fn check(connection: &Connection, path: &Path) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    if found > FORMAT {
        return Err(StoreError::LedgerNewer { path: path.to_owned(), found, known: FORMAT });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use rusqlite::params;

    use super::*;
    use crate::ledger::Ledger;

    /// The tables of files and segments as format 2 had them.
    const FORMAT_2: &str = "
        drop table file; drop table segment; drop table content; drop table stretch; drop table members;
        create table file (
            id integer primary key, section text not null, strand text not null, number integer not null,
            most_urls integer not null, most_bytes integer not null, changed integer not null,
            crc integer not null, size integer not null, unique (section, strand, number)
        );
        create table segment (
            file integer not null, number integer not null, count integer not null, size integer not null,
            crc integer not null, images integer not null, videos integer not null,
            lane blob not null, body blob not null, primary key (file, number)
        );
        insert into file values (7, 'journal', 'pages', 3, 1000, 10000000, 5, 6, 8);
        pragma user_version = 2;";

    /// The table of segments as format 5 had it.
    const FORMAT_5: &str = "
        drop table segment; drop table content;
        create table segment (
            file integer not null, number integer not null, count integer not null, size integer not null,
            crc integer not null, images integer not null, videos integer not null, newest text, frame integer not null,
            lane_crc integer, lane blob not null, raws blob not null, body blob not null, primary key (file, number)
        );
        insert into file values (7, 'journal', 'pages', 3, 1000, 10000000, 20000, 5, 6, 8);
        pragma user_version = 5;";

    #[rstest]
    #[case(FORMAT_2, "insert into segment values (7, 0, 1, 2, 3, 1, 1, ?1, ?2)", (0, 0))]
    #[case(FORMAT_5, "insert into segment values (7, 0, 1, 2, 3, 4, 5, null, 3, null, ?1, x'', ?2)", (4, 5))]
    fn an_older_ledger_is_brought_up_to_this_format(
        #[case] tables: &str,
        #[case] insert: &str,
        #[case] media: (u64, u64),
    ) {
        let folder = tempfile::tempdir().unwrap();
        drop(Ledger::open(folder.path()).unwrap());
        let connection = Connection::open(folder.path().join("ledger.db")).unwrap();
        connection.execute_batch(tables).unwrap();
        let lane = vec![0u8; 45];
        connection.execute(insert, params![lane, b"body".to_vec()]).unwrap();
        drop(connection);
        for _ in 0..2 {
            let ledger = Ledger::open(folder.path()).unwrap();
            let remembered = ledger.remembered().unwrap();
            let file = &remembered.files[0];
            assert_eq!((file.section.as_str(), file.number, file.limits.media), ("journal", 3, 20_000));
            let segment = file.segments[0];
            assert!(segment.frame.images && segment.frame.videos && !segment.frame.news);
            assert_eq!((segment.facts.images, segment.facts.videos), media);
            assert_eq!(ledger.body(7, 0).unwrap(), b"body");
            assert_eq!(ledger.lane(7, &segment).unwrap().len(), 1);
        }
    }
}
