//! A table in Parquet files, beside the same rows as CSV: the first build, and one in which nothing changed. Once with
//! columns that are all fields, and once with others beside them, as an export of a warehouse has.

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use parquet::basic::Compression;
use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
use parquet::file::properties::WriterProperties;
use parquet::file::writer::{SerializedFileWriter, SerializedRowGroupWriter};
use parquet::schema::parser::parse_message_type;

use crate::site::BenchSite;
use crate::{ROOT, median, page, peak, tell};

/// The rows of a row group.
const GROUP: usize = 200_000;
/// The columns that no field uses.
const OTHERS: [&str; 5] = ["plate_number", "shelf", "donor", "condition", "notes"];

pub fn run(rows: usize, runs: usize) {
    for others in [0, OTHERS.len()] {
        compare(rows, runs, others);
    }
}

fn compare(rows: usize, runs: usize, others: usize) {
    let sites = ["csv", "parquet"].map(|form| {
        let source = format!("from = \"table\"\nfile = \"pages.{form}\"");
        BenchSite::new(ROOT, &source, "")
    });
    write_csv(&sites[0].0.path().join("pages.csv"), rows, others).expect("a table");
    write_parquet(&sites[1].0.path().join("pages.parquet"), rows, others);
    let mut first: [Vec<Duration>; 2] = Default::default();
    let mut again: [Vec<Duration>; 2] = Default::default();
    let mut peaks = [0; 2];
    for _ in 0..runs {
        for (at, site) in sites.iter().enumerate() {
            for folder in [".idle-atlas", "public"] {
                let _ = fs::remove_dir_all(site.0.path().join(folder));
            }
            fs::create_dir(site.0.path().join("public")).expect("a web root");
            let (time, memory) = site.run(&["build"]);
            first[at].push(time);
            peaks[at] = peaks[at].max(memory);
            again[at].push(site.run(&["build"]).0);
        }
    }
    let size = |name: &str, site: &BenchSite| fs::metadata(site.0.path().join(name)).map_or(0, |file| file.len() >> 20);
    println!(
        "{rows} rows of three columns that are fields and {others} others, medians of {runs}; CSV {} MiB, Parquet {} MiB",
        size("pages.csv", &sites[0]),
        size("pages.parquet", &sites[1])
    );
    let [csv, parquet] = first.map(median);
    tell("first build from CSV", csv, None, &peak(peaks[0]));
    tell("first build from Parquet", parquet, Some(csv), &peak(peaks[1]));
    let [csv, parquet] = again.map(median);
    tell("nothing changed, CSV", csv, None, "");
    tell("nothing changed, Parquet", parquet, Some(csv), "");
}

/// What a column that no field uses holds.
fn other(column: usize, number: usize) -> String {
    match column {
        0 => format!("MV-{number:08}"),
        1 => format!("room {}, cabinet {}, shelf {}", number % 7, number % 31, number % 12),
        2 => format!("The family of the late stationmaster of halt {}", number % 4_001),
        3 => ["good", "scratched", "faded at the edges", "glass cracked"][number % 4].to_owned(),
        _ => format!(
            "Taken from the footplate on a wet morning, {} minutes late; see also plate {}",
            number % 50,
            number / 3
        ),
    }
}

fn write_csv(path: &Path, rows: usize, others: usize) -> std::io::Result<()> {
    let mut out = BufWriter::new(File::create(path)?);
    let names: String = OTHERS[..others].iter().map(|name| format!(",{name}")).collect();
    writeln!(out, "url,title,modified{names}")?;
    for number in 0..rows {
        let (path, title, modified) = page(number);
        write!(out, "{path},{title},{modified}")?;
        (0..others).try_for_each(|column| write!(out, ",\"{}\"", other(column, number)))?;
        writeln!(out)?;
    }
    out.flush()
}

fn write_parquet(path: &Path, rows: usize, others: usize) {
    let names: String = OTHERS[..others].iter().map(|name| format!(" required binary {name} (utf8);")).collect();
    let schema = format!(
        "message page {{ required binary url (utf8); required binary title (utf8); required int64 modified (timestamp(millis, true));{names} }}"
    );
    let schema = Arc::new(parse_message_type(&schema).expect("a schema"));
    let properties = Arc::new(WriterProperties::builder().set_compression(Compression::SNAPPY).build());
    let mut writer =
        SerializedFileWriter::new(File::create(path).expect("a file"), schema, properties).expect("a writer");
    for begin in (0..rows).step_by(GROUP) {
        let numbers = begin..(begin + GROUP).min(rows);
        let mut group = writer.next_row_group().expect("a row group");
        texts(&mut group, numbers.clone(), |number| page(number).0);
        texts(&mut group, numbers.clone(), |number| page(number).1);
        let dates: Vec<i64> = numbers.clone().map(|number| page(number).2 * 1000).collect();
        let mut column = group.next_column().expect("a column").expect("it is in the schema");
        column.typed::<Int64Type>().write_batch(&dates, None, None).expect("values");
        column.close().expect("it is whole");
        (0..others).for_each(|nth| texts(&mut group, numbers.clone(), |number| other(nth, number)));
        group.close().expect("it is whole");
    }
    writer.close().expect("it is whole");
}

/// Writes the next column, of texts.
fn texts(group: &mut SerializedRowGroupWriter<'_, File>, numbers: Range<usize>, text: impl Fn(usize) -> String) {
    let values: Vec<ByteArray> = numbers.map(|number| text(number).into_bytes().into()).collect();
    let mut column = group.next_column().expect("a column").expect("it is in the schema");
    column.typed::<ByteArrayType>().write_batch(&values, None, None).expect("values");
    column.close().expect("it is whole");
}
