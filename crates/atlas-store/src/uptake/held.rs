//! How many entries each sitemap file held at a time, by the reports of builds.

use std::collections::{BTreeMap, HashMap};

use serde_json::Value;

use crate::destination::Names;
use crate::error::StoreError;
use crate::ledger::Ledger;

/// How many runs are looked at: those whose reports are remembered.
const MOST_RUNS: usize = 30;

/// How many entries each sitemap file held after each run.
#[derive(Debug, Default)]
pub(super) struct HeldEntries {
    /// By the instant of the run, newest first: the entries of each file, by its address.
    runs: Vec<(i64, HashMap<String, u64>)>,
}

impl HeldEntries {
    /// Reads the reports that are remembered.
    pub(super) fn read(ledger: &dyn Ledger, names: &Names) -> Result<Self, StoreError> {
        let mut runs = Vec::new();
        for row in ledger.runs(MOST_RUNS)? {
            let Some((_, report)) = ledger.run(row.run)? else { continue };
            let report: Value = serde_json::from_str(&report).unwrap_or_default();
            let sections = report["sections"].as_array().into_iter().flatten();
            let files = sections.flat_map(|section| section["files"].as_array()).flatten();
            let mut of_run: BTreeMap<String, u64> = BTreeMap::new();
            for file in files {
                if let (Some(address), Some(entries)) = (file["address"].as_str(), file["entries"].as_u64()) {
                    *of_run.entry(address.to_owned()).or_default() += entries;
                }
            }
            if of_run.is_empty() {
                continue;
            }
            let main = names.main_address();
            let all = of_run.values().sum();
            let mut of_run: HashMap<String, u64> = of_run.into_iter().collect();
            // Consoles count what an index leads to.
            of_run.entry(main).or_insert(all);
            runs.push((row.at, of_run));
        }
        Ok(Self { runs })
    }

    /// How many entries a file held at an instant; `None` if that is no longer remembered.
    pub(super) fn at(&self, address: &str, at: i64) -> Option<u64> {
        let (_, files) = self.runs.iter().find(|(run, _)| *run <= at)?;
        files.get(address).copied()
    }

    /// How many entries a file holds now.
    pub(super) fn now(&self, address: &str) -> Option<u64> {
        self.runs.first()?.1.get(address).copied()
    }
}
