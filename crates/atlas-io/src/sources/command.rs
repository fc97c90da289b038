//! The source `command`: a program of the user's that writes JSON Lines to its standard output, one object per entry.
//! It makes it possible to gather from anything that this tool does not know. If the program fails, the source fails.

use atlas_core::fingerprint;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};

use crate::program::{Program, ProgramInput};
use crate::reading::record::RecordSettings;
use crate::reading::rows::{RecordLayout, RecordUnit, RowInput, RowsError};
use crate::sources::failed;

/// How many characters of the command line are shown.
const LONGEST_NAME: usize = 40;

/// A program that yields entries.
#[derive(Debug, Clone)]
pub struct CommandSource {
    /// The program.
    pub program: Program,
    /// How its records are read.
    pub records: RecordSettings,
}

impl Source for CommandSource {
    fn name(&self) -> String {
        let line = self.program.line();
        match line.char_indices().nth(LONGEST_NAME) {
            // Command lines that differ only in what was cut off are still different sources.
            Some((end, _)) => format!("command {}… {:04x}", &line[..end], fingerprint::settings(&line) & 0xffff),
            None => format!("command {line}"),
        }
    }

    fn settings(&self) -> u64 {
        fingerprint::settings("")
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        self.watch(gathering).map_err(|why| failed(self.name(), why))
    }
}

impl CommandSource {
    fn watch(&self, gathering: &mut Gathering<'_>) -> Result<(), String> {
        let shown = format!("output of {}", self.program.run.first().map_or("a program", String::as_str));
        let rows = RowInput {
            settings: &self.records,
            layout: RecordLayout::JsonLines,
            shown: &shown,
            unit: RecordUnit::Line,
        };
        let stop = gathering.stop().clone();
        self.program.watch(ProgramInput::default(), &stop, |stdout| {
            let read = stdout.map_or(Ok(()), |stdout| rows.gather(stdout, gathering));
            read.map_err(|error| match error {
                RowsError::Read(error) => format!("its output cannot be read: {error}"),
                RowsError::Header(why) => why,
            })
        })
    }
}
