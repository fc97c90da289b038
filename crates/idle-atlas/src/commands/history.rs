//! The command `history`: runs and announcements, newest first.

use atlas_store::ledger::{self, Ledger};

use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::{args, view};

pub fn run(settings: &Settings, history: &args::HistoryArguments, screen: &Screen) -> Result<Exit, Failure> {
    let Some(ledger) = ledger::open_for_reading(&settings.ledger)? else {
        return Err(Failure::said("nothing has been built yet; begin with: idle-atlas build"));
    };
    if history.entries {
        return entries(&*ledger, screen);
    }
    if let Some(number) = history.run {
        let (row, report) = ledger
            .run(number)?
            .ok_or_else(|| Failure::said(format!("there is no run {number}; list them with: idle-atlas history")))?;
        let run = view::history::PastRun {
            row,
            urls: ledger.urls_of_run(number)?,
            report: serde_json::from_str(&report).unwrap_or_default(),
        };
        screen.show(&run, || view::history::one(&run, &screen.layout(settings)))?;
        return Ok(Exit::Done);
    }
    let past =
        view::history::Past { runs: ledger.runs(history.most)?, announcements: ledger.announcements(history.most)? };
    screen.show(&past, || view::history::past(&past, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// Prints every remembered entry on a line of its own, streaming, however many there are. As JSON, one object per line.
fn entries(ledger: &dyn Ledger, screen: &Screen) -> Result<Exit, Failure> {
    let header = !screen.is_a_further_site();
    let mut out = csv::WriterBuilder::new().has_headers(header).from_writer(Vec::new());
    ledger::export(ledger, |entry| {
        if screen.wants_json() {
            let line = serde_json::to_string(&entry).map_err(|error| Failure::said(error.to_string()))?;
            return screen.print(&(line + "\n"));
        }
        out.serialize(&entry).map_err(|error| Failure::said(error.to_string()))?;
        if out.get_ref().len() > CHUNK { print(&mut out, screen) } else { Ok(()) }
    })?;
    print(&mut out, screen)?;
    Ok(Exit::Done)
}

/// How many bytes of a list are printed at once.
const CHUNK: usize = 1 << 16;

fn print(out: &mut csv::Writer<Vec<u8>>, screen: &Screen) -> Result<(), Failure> {
    let failed = |error: csv::Error| Failure::said(error.to_string());
    out.flush().map_err(|error| failed(error.into()))?;
    // The header is written once; the same writer continues with an empty buffer.
    let text = String::from_utf8_lossy(out.get_ref()).into_owned();
    let rest = csv::WriterBuilder::new().has_headers(false).from_writer(Vec::new());
    *out = rest;
    screen.print(&text)
}
