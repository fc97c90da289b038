//! `history`: runs and announcements, newest first.

use atlas_store::ledger::Ledger;

use crate::args;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

pub fn run(settings: &Settings, history: &args::History, screen: &Screen) -> Result<Exit, Failure> {
    let Some(ledger) = Ledger::open_for_reading(&settings.ledger)? else {
        return Err(Failure::said("nothing has been built yet; begin with: idle-atlas build"));
    };
    if let Some(number) = history.run {
        let (row, report) = ledger
            .run(number)?
            .ok_or_else(|| Failure::said(format!("there is no run {number}; list them with: idle-atlas history")))?;
        let report: serde_json::Value = serde_json::from_str(&report).unwrap_or_default();
        screen.show(&report, || view::history::one(&row, &report))?;
        return Ok(Exit::Done);
    }
    let past =
        view::history::Past { runs: ledger.runs(history.most)?, announcements: ledger.announcements(history.most)? };
    screen.show(&past, || view::history::past(&past))?;
    Ok(Exit::Done)
}
