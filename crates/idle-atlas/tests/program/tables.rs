//! Tables with many rows, of which a build reads only those that changed: the result must be the same as if it had read
//! all of them.

use proptest::prelude::*;
use serde_json::Value;

use super::support::TestSite;

const TABLE: &str = "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nurls_per_file = 200\n[[rule]]\nmatching = [\"/left-out/**\"]\nkeep = false\n";
const WORDS: &str = "The up train waits at the halt until the lamp is lit";

/// Kinds of rows.
#[derive(Debug, Clone, Copy)]
enum Row {
    Plain,
    Quoted,
    LeftOut,
    BadDate,
    TooManyColumns,
    NoUrl,
    NotUtf8,
    Twice,
    Scheduled,
}

impl Row {
    /// The row as bytes of the table.
    fn bytes(self, number: u32) -> Vec<u8> {
        let date = format!("2026-{:02}-{:02}", number % 10 + 1, number % 28 + 1);
        let text = match self {
            Self::Plain => format!("/halts/{number}/,{date},{WORDS} {number},\n"),
            Self::Quoted => format!("\"/quoted/{number}/\",{date},\"{WORDS},\n\"\"{number}\"\"\",\r\n"),
            Self::LeftOut => format!("/left-out/{number}/,{date},{WORDS},\n"),
            Self::BadDate => format!("/dated/{number}/,soonish {number},{WORDS},\n"),
            Self::TooManyColumns => format!("/columns/{number}/,{date},{WORDS},,,\n"),
            Self::NoUrl => format!(",{date},{WORDS} {number},\n"),
            Self::NotUtf8 => return [format!("/broken/{number}/,{date},").as_bytes(), b"\xff\xfe,\n"].concat(),
            // Many of these name the same few URLs.
            Self::Twice => format!("/twice/{}/,{date},{WORDS} {number},\n", number % 7),
            Self::Scheduled => format!("/later/{number}/,{date},{WORDS},2027-01-01\n"),
        };
        text.into_bytes()
    }
}

fn row() -> impl Strategy<Value = Row> {
    prop_oneof![
        20 => Just(Row::Plain),
        3 => Just(Row::Quoted),
        1 => Just(Row::LeftOut),
        1 => Just(Row::BadDate),
        1 => Just(Row::TooManyColumns),
        1 => Just(Row::NoUrl),
        1 => Just(Row::NotUtf8),
        1 => Just(Row::Twice),
        1 => Just(Row::Scheduled),
    ]
}

/// What happens to the table before a build.
#[derive(Debug, Clone)]
enum Edit {
    Insert(Row, usize),
    Remove(usize, usize),
    Replace(Row, usize),
    Move(usize, usize, usize),
    Nothing,
}

fn edit() -> impl Strategy<Value = Edit> {
    let at = || 0usize..900;
    prop_oneof![
        (row(), at()).prop_map(|(row, at)| Edit::Insert(row, at)),
        (at(), 1usize..30).prop_map(|(at, count)| Edit::Remove(at, count)),
        (row(), at()).prop_map(|(row, at)| Edit::Replace(row, at)),
        (at(), 1usize..200, at()).prop_map(|(from, count, to)| Edit::Move(from, count, to)),
        Just(Edit::Nothing),
    ]
}

fn apply(edit: &Edit, rows: &mut Vec<Vec<u8>>, next: &mut u32) {
    *next += 1;
    let within = |at: usize| at % rows.len();
    match *edit {
        Edit::Insert(row, at) => rows.insert(within(at), row.bytes(*next)),
        Edit::Remove(at, count) => drop(rows.drain(within(at)..(within(at) + count).min(rows.len()))),
        Edit::Replace(row, at) => {
            let at = within(at);
            rows[at] = row.bytes(*next);
        }
        Edit::Move(from, count, to) => {
            let moved: Vec<Vec<u8>> = rows.drain(within(from)..(within(from) + count).min(rows.len())).collect();
            let to = to % (rows.len() + 1);
            rows.splice(to..to, moved);
        }
        Edit::Nothing => {}
    }
}

/// The parts of a report that do not depend on how much was read.
fn said(report: &Value) -> Vec<Value> {
    let sources = report["sources"].as_array().unwrap().iter();
    let counts =
        sources.map(|one| serde_json::json!([one["problem_count"], one["problems"], one["kept"], one["left_out"]]));
    let parts = ["sections", "left_out", "waiting", "changes"].map(|part| report[part].clone());
    parts.into_iter().chain(counts).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    #[test]
    fn an_incremental_build_equals_a_full_one(
        first in proptest::collection::vec(row(), 400..900),
        edits in proptest::collection::vec(proptest::collection::vec(edit(), 1..3), 1..7),
    ) {
        let (site, all) = (TestSite::new(TABLE), TestSite::new(TABLE));
        let mut next = first.len() as u32;
        let mut rows: Vec<Vec<u8>> = first.iter().zip(0..).map(|(row, number)| row.bytes(number)).collect();
        for (nth, edits) in std::iter::once(&Vec::new()).chain(&edits).enumerate() {
            edits.iter().for_each(|edit| apply(edit, &mut rows, &mut next));
            let table = [b"url,modified,title,published\n".to_vec(), rows.concat()].concat();
            site.write("t.csv", &table);
            all.write("t.csv", &table);
            let mine = site.json(&["build", "--allow", "shrink"]);
            let theirs = all.json(&["build", "--fresh", "--allow", "shrink"]);
            for (mine, theirs) in said(&mine).iter().zip(said(&theirs)) {
                prop_assert_eq!(mine, &theirs, "build {}", nth);
            }
            prop_assert!(site.outputs() == all.outputs(), "build {} wrote other files", nth);
        }
    }
}

/// A row that comes again and again is one entry, wherever it comes, and says nothing new when it moves.
#[test]
fn equal_rows_are_one_entry() {
    let site = TestSite::new(TABLE);
    let table = |before: usize, times: usize| {
        let others = |range: std::ops::Range<usize>| range.map(|row| format!("/other/{row}/,,\n")).collect::<String>();
        let equal = "/halts/weir/,2026-03-04,The weir\n".repeat(times);
        format!("url,modified,title\n{}{equal}{}", others(0..before), others(before..900))
    };
    site.write("t.csv", table(300, 3000));
    site.run(&["build"]).says(0, &["901 entries"]);
    let report = site.json(&["survey"]);
    let duplicates = report["left_out"].as_array().unwrap().iter().find(|one| one["reason"] == "duplicate").unwrap();
    assert_eq!((&duplicates["count"], &report["sources"][0]["rows"]), (&2999.into(), &3900.into()), "{duplicates}");
    site.write("t.csv", table(700, 2));
    assert_eq!(site.build()["written"], serde_json::json!([]));
}
