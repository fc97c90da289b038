//! One Parquet file: opened, checked, and cut into parts that are read side by side.

use std::fs::File;
use std::io::{self, Read};
use std::ops::Range;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::PathBuf;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::Schema;
use bytes::Bytes;
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{
    ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder,
};
use parquet::basic::Type as PhysicalType;
use parquet::errors::ParquetError;
use parquet::file::metadata::{ParquetMetaData, RowGroupMetaData};
use parquet::file::reader::{ChunkReader, Length};

#[cfg(feature = "object-stores")]
use atlas_store::stop::Stop;

use super::columns::{as_read, check, is_used};
#[cfg(feature = "object-stores")]
use crate::object::{ObjectBlocks, ObjectFile};
use crate::reading::chunker::BLOCK;
use crate::reading::input::{self, FoundInput};
use crate::reading::record::RecordSettings;

/// The most rows of a part. Row groups of a million rows are common, and four parts are read at a time.
const PART: usize = 1 << 17;
/// The most rows that are decoded at a time.
const BATCH: usize = 4096;

/// The bytes of a file, wherever it is.
#[derive(Clone)]
pub(super) enum ParquetBytes {
    /// A local file.
    Local(Arc<File>),
    /// An object in a store.
    #[cfg(feature = "object-stores")]
    Object(Arc<ObjectBlocks>),
}

impl Length for ParquetBytes {
    fn len(&self) -> u64 {
        match self {
            Self::Local(file) => Length::len(file.as_ref()),
            #[cfg(feature = "object-stores")]
            Self::Object(object) => object.size(),
        }
    }
}

impl ChunkReader for ParquetBytes {
    type T = Box<dyn Read>;

    fn get_read(&self, start: u64) -> Result<Self::T, ParquetError> {
        Ok(match self {
            Self::Local(file) => Box::new(file.get_read(start)?),
            #[cfg(feature = "object-stores")]
            Self::Object(object) => Box::new(object.read_from(start)),
        })
    }

    fn get_bytes(&self, start: u64, length: usize) -> Result<Bytes, ParquetError> {
        match self {
            Self::Local(file) => file.get_bytes(start, length),
            #[cfg(feature = "object-stores")]
            Self::Object(object) => Ok(object.bytes(start, length)?),
        }
    }
}

/// Where a file is. Thousands may be known at once, so each is open only while it is read.
#[derive(Clone)]
pub(super) enum ParquetPlace {
    /// A path.
    Path(PathBuf),
    /// A file without a name.
    Spooled(Arc<File>),
    /// An object in a store.
    #[cfg(feature = "object-stores")]
    Object(ObjectFile, Stop),
}

impl ParquetPlace {
    fn open(&self) -> io::Result<ParquetBytes> {
        Ok(match self {
            Self::Path(path) => ParquetBytes::Local(Arc::new(File::open(path)?)),
            Self::Spooled(file) => ParquetBytes::Local(Arc::clone(file)),
            #[cfg(feature = "object-stores")]
            Self::Object(object, stop) => ParquetBytes::Object(Arc::new(object.blocks(stop)?)),
        })
    }
}

/// A file whose columns are known.
#[derive(Clone)]
pub(super) struct ParquetFile {
    place: ParquetPlace,
    metadata: ArrowReaderMetadata,
    /// The columns that its path gives: `year=2026`.
    pub(super) parts: Vec<(String, String)>,
    /// What it is called in messages.
    pub(super) shown: String,
}

impl ParquetFile {
    /// Reads what a file says of itself, and checks its columns. The error is in words.
    pub(super) fn open(found: &FoundInput, place: ParquetPlace, settings: &RecordSettings) -> Result<Self, String> {
        let shown = found.shown.clone();
        let named = |why: String| format!("{shown}: {why}");
        let bytes = place.open().map_err(|error| named(format!("{error}{}", input::mend(&error))))?;
        let metadata = guarded(&shown, || metadata_of(&bytes).map_err(|error| in_words(&error)))?;
        whole(metadata.metadata(), bytes.len()).map_err(named)?;
        let mut columns = metadata.schema().fields().iter().filter(|column| is_used(settings, column.name()));
        columns.try_for_each(|column| check(settings, column)).map_err(named)?;
        Ok(Self { place, metadata, parts: parts_of(&shown), shown })
    }

    /// Its schema.
    pub(super) fn schema(&self) -> &Schema {
        self.metadata.schema()
    }

    /// The number of row groups.
    pub(super) fn groups(&self) -> usize {
        self.metadata.metadata().num_row_groups()
    }

    /// The parts of a row group that are read side by side. Lists cannot be read from the middle without reading what is
    /// before, so a group with lists is one part.
    pub(super) fn parts_of_group(&self, group: usize, settings: &RecordSettings) -> impl Iterator<Item = Range<usize>> {
        let rows = usize::try_from(self.group(group).num_rows()).unwrap_or(0);
        let columns = self.schema().fields().iter().filter(|column| is_used(settings, column.name()));
        let is_nested = columns.clone().any(|column| column.data_type().is_nested());
        let step = if is_nested || rows <= PART + PART / 2 { rows.max(1) } else { PART };
        (0..rows).step_by(step).map(move |begun| begun..rows.min(begun + step))
    }

    fn group(&self, group: usize) -> &RowGroupMetaData {
        self.metadata.metadata().row_group(group)
    }

    /// Reads some rows of a row group.
    pub(super) fn read(
        &self,
        group: usize,
        rows: Range<usize>,
        settings: &RecordSettings,
    ) -> Result<ParquetRecordBatchReader, ParquetError> {
        let fields = self.schema().fields().iter().enumerate();
        let used = fields.filter(|(_, column)| is_used(settings, column.name())).map(|(at, _)| at);
        let descriptor = self.metadata.metadata().file_metadata().schema_descr();
        let mask = ProjectionMask::roots(descriptor, used);
        let columns = self.group(group).columns().iter().enumerate().filter(|(leaf, _)| mask.leaf_included(*leaf));
        let size: i64 = columns.map(|(_, column)| column.uncompressed_size().max(0)).sum();
        // Rows of many bytes are decoded a few at a time.
        let each = usize::try_from(size).unwrap_or(usize::MAX)
            / usize::try_from(self.group(group).num_rows()).unwrap_or(1).max(1);
        let builder = ParquetRecordBatchReaderBuilder::new_with_metadata(self.place.open()?, self.metadata.clone())
            .with_projection(mask)
            .with_row_groups(vec![group])
            .with_batch_size((4 * BLOCK / each.max(1)).clamp(1, BATCH))
            .with_limit(rows.len());
        let builder = if rows.start > 0 { builder.with_offset(rows.start) } else { builder };
        builder.build()
    }
}

/// Runs a step of the decoder. A damaged file must not end the program, whatever the decoder makes of it.
pub(super) fn guarded<T>(shown: &str, step: impl FnOnce() -> Result<T, String>) -> Result<T, String> {
    catch_unwind(AssertUnwindSafe(step))
        .unwrap_or_else(|_| Err("the file is damaged. Export it again".to_owned()))
        .map_err(|why| format!("{shown}: {why}"))
}

/// What a file says of itself, with the schema in which it is read.
fn metadata_of(bytes: &ParquetBytes) -> Result<ArrowReaderMetadata, ParquetError> {
    // What Arrow adds to a file names types that other programs do not know.
    let options = || ArrowReaderOptions::new().with_skip_arrow_metadata(true);
    let metadata = ArrowReaderMetadata::load(bytes, options())?;
    let is_96_bit = |name: &str| {
        let columns = metadata.metadata().file_metadata().schema_descr().columns();
        columns.iter().any(|column| column.name() == name && column.physical_type() == PhysicalType::INT96)
    };
    let schema = as_read(metadata.schema(), is_96_bit);
    ArrowReaderMetadata::try_new(Arc::clone(metadata.metadata()), options().with_schema(Arc::new(schema)))
}

/// The first rows of a file.
pub(super) fn first_batch(place: &ParquetPlace, most: usize) -> Result<Option<RecordBatch>, ParquetError> {
    let bytes = place.open()?;
    let metadata = metadata_of(&bytes)?;
    let builder = ParquetRecordBatchReaderBuilder::new_with_metadata(bytes, metadata);
    let mut reader = builder.with_batch_size(most).with_limit(most).build()?;
    reader.next().transpose().map_err(ParquetError::from)
}

/// Checks that what the file says of itself can be true, so that a damaged file asks for no memory that it does not fill.
fn whole(metadata: &ParquetMetaData, length: u64) -> Result<(), String> {
    let damaged = |what: String| Err(format!("{what}: the file is damaged or was cut short. Export it again"));
    for (at, group) in metadata.row_groups().iter().enumerate() {
        for column in group.columns() {
            let (start, size) = column.byte_range();
            if start.checked_add(size).is_none_or(|end| end > length) {
                let name = column.column_path().string();
                return damaged(format!(
                    "row group {} says that the column “{name}” ends behind the end of the file",
                    at + 1
                ));
            }
            // Each value that is not null takes at least a part of a bit, and pages of nulls some bytes.
            if group.num_rows() < 0 || column.num_values() < 0 || (size == 0 && group.num_rows() > 0) {
                return damaged(format!("row group {} says that it has {} rows in no bytes", at + 1, group.num_rows()));
            }
        }
    }
    Ok(())
}

/// The columns that the folders of a path give: `year=2026/month=11`.
fn parts_of(path: &str) -> Vec<(String, String)> {
    /// How an empty value is spelt in a path.
    const NO_VALUE: &str = "__HIVE_DEFAULT_PARTITION__";
    let folders = path.rsplit_once('/').map_or("", |(folders, _)| folders);
    let decoded = |text: &str| percent_encoding::percent_decode_str(text).decode_utf8_lossy().into_owned();
    let parts = folders.split('/').filter_map(|part| part.split_once('=')).filter(|(name, _)| !name.is_empty());
    parts.map(|(name, value)| (decoded(name), if value == NO_VALUE { String::new() } else { decoded(value) })).collect()
}

/// An error of the parser, with what to do.
pub(super) fn in_words(error: &ParquetError) -> String {
    match error {
        ParquetError::NYI(what) => {
            format!("this program does not read it ({what}); export it with the compression zstd, snappy, gzip or lz4")
        }
        ParquetError::External(cause) => match cause.downcast_ref::<io::Error>() {
            Some(error) => error.to_string(),
            None => cause.to_string(),
        },
        other => {
            let words = other.to_string();
            let words = words.trim_start_matches("Parquet error: ").trim_start_matches("EOF: ");
            if words.contains("Disabled feature") {
                return format!(
                    "this program does not read its compression ({words}); export it with zstd, snappy, gzip or lz4"
                );
            }
            format!(
                "it is not a whole Parquet file ({words}). It may be damaged, or still be being written; export it again"
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Seek, SeekFrom, Write};

    use arrow_array::{ArrayRef, StringArray};
    use atlas_core::address::Site;
    use atlas_core::query::Parameters;
    use jiff::tz::TimeZone;
    use parquet::arrow::ArrowWriter;
    use parquet::file::metadata::{ParquetMetaDataReader, ParquetMetaDataWriter};
    use rstest::rstest;

    use super::*;
    use crate::reading::chunker::Buffers;
    use crate::reading::field::ColumnMapping;
    use crate::reading::input::Input;
    use crate::reading::record::Dates;
    use crate::sources::parquet::lanes::{FilePart, Lanes};

    /// A file of three rows whose metadata was changed.
    fn changed(change: impl Fn(RowGroupMetaData) -> RowGroupMetaData) -> ParquetBytes {
        let urls: ArrayRef = Arc::new(StringArray::from(vec!["/weir/", "/ty-croes/", "/summit/"]));
        let batch = RecordBatch::try_from_iter([("url", urls)]).unwrap();
        let mut bytes = Vec::new();
        let mut writer = ArrowWriter::try_new(&mut bytes, batch.schema(), None).unwrap();
        writer.write(&batch).unwrap();
        writer.close().unwrap();
        let metadata = ParquetMetaDataReader::new().parse_and_finish(&Bytes::from(bytes.clone())).unwrap();
        let footer = u32::from_le_bytes(bytes[bytes.len() - 8..bytes.len() - 4].try_into().unwrap()) as usize;
        bytes.truncate(bytes.len() - 8 - footer);
        let groups = metadata.row_groups().iter().cloned().map(change).collect();
        let metadata = metadata.into_builder().set_row_groups(groups).build();
        ParquetMetaDataWriter::new(&mut bytes, &metadata).finish().unwrap();
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(&bytes).unwrap();
        file.seek(SeekFrom::Start(0)).unwrap();
        ParquetBytes::Local(Arc::new(file))
    }

    fn local(bytes: ParquetBytes) -> Arc<File> {
        match bytes {
            ParquetBytes::Local(file) => file,
            #[cfg(feature = "object-stores")]
            ParquetBytes::Object(_) => unreachable!("the file is local"),
        }
    }

    fn rows(group: RowGroupMetaData, rows: i64) -> RowGroupMetaData {
        group.into_builder().set_num_rows(rows).build().unwrap()
    }

    fn size(group: RowGroupMetaData, packed: i64, size: i64) -> RowGroupMetaData {
        let columns = group.columns().iter().map(|column| {
            let column = column.clone().into_builder();
            column.set_total_compressed_size(packed).set_total_uncompressed_size(size).build().unwrap()
        });
        let columns = columns.collect();
        group.into_builder().set_column_metadata(columns).build().unwrap()
    }

    #[rstest]
    #[case::as_it_was(|group| group, None)]
    #[case::beyond_its_end(|group| size(group, 10_000_000_000, 10_000_000_000), Some("“url” ends behind the end of the file"))]
    #[case::nothing(|group| size(group, 0, 0), Some("has 3 rows in no bytes"))]
    fn what_a_file_says_of_itself_is_checked(
        #[case] change: fn(RowGroupMetaData) -> RowGroupMetaData,
        #[case] wanted: Option<&str>,
    ) {
        let bytes = changed(change);
        let checked = whole(metadata_of(&bytes).unwrap().metadata(), bytes.len());
        assert_eq!(checked.is_err(), wanted.is_some());
        assert!(wanted.is_none_or(|wanted| checked.unwrap_err().contains(wanted)));
    }

    /// Ten thousand million rows that are declared and not there take neither time nor memory.
    #[test]
    fn rows_that_are_only_declared_are_missed() {
        let bytes = changed(|group| rows(size(group, 60, 10_000_000_000), 10_000_000_000));
        let file = local(bytes);
        let found = FoundInput { input: Input::Standard, shown: "halts.parquet".into() };
        let settings = RecordSettings {
            site: Site::parse("https://www.marrowvale.example/").unwrap(),
            section: None,
            makes_sections: false,
            mapping: ColumnMapping::default(),
            dates: Dates::Plain,
            separator: "|".to_owned(),
            timezone: TimeZone::UTC,
            drop_parameters: Parameters::default(),
        };
        let file = ParquetFile::open(&found, ParquetPlace::Spooled(file), &settings).unwrap();
        let parts =
            file.parts_of_group(0, &settings).take(1).map(|rows| FilePart { file: file.clone(), group: 0, rows });
        let columns = ["url".to_owned()];
        let mut lanes = Lanes::new(&settings, &columns, parts);
        let buffers = Buffers::default();
        while !lanes.next(&buffers).is_empty() {}
        assert_eq!(lanes.failures.len(), 1, "{:?}", lanes.failures);
        assert!(lanes.failures[0].starts_with("halts.parquet: "), "{:?}", lanes.failures);
    }

    #[rstest]
    #[case::none("exports/halts.parquet", &[])]
    #[case::two("exports/year=2026/month=11/part-0.parquet", &[("year", "2026"), ("month", "11")])]
    #[case::encoded("s3://warehouse/exports/place=Ty%20Croes/part-0.parquet", &[("place", "Ty Croes")])]
    #[case::no_value("kind=__HIVE_DEFAULT_PARTITION__/a.parquet", &[("kind", "")])]
    #[case::the_file_itself_is_no_part("exports/year=2026.parquet", &[])]
    fn folders_give_columns(#[case] path: &str, #[case] wanted: &[(&str, &str)]) {
        let wanted: Vec<(String, String)> =
            wanted.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect();
        assert_eq!(parts_of(path), wanted);
    }
}
