//! Resolving `[[engine]]` and `[guards]`.

use std::time::Duration;

use atlas_core::address::Address;
use atlas_core::announce::indexnow::Key;
use atlas_core::judge::Thresholds;
use atlas_io::engines::{self, EngineSettings};
use toml::Spanned;

use super::context::{Context, expand};
use super::upkeep::{EngineTable, GuardsTable};
use crate::exit::Failure;

impl Context<'_> {
    /// The limits of the guards.
    pub(super) fn thresholds(&self, table: &GuardsTable) -> Result<Thresholds, Failure> {
        let usual = Thresholds::default();
        let share = |key: &str, typed: &Option<Spanned<String>>, usual: u64| {
            let Some(typed) = typed else { return Ok(usual) };
            let share = typed.as_ref().strip_suffix('%').and_then(|digits| digits.trim().parse::<u64>().ok());
            share.filter(|share| *share <= 100).ok_or_else(|| {
                self.origin
                    .error(typed, format!("“{key}”: expected a share from \"0%\" to \"100%\", such as \"{usual}%\""))
            })
        };
        let few = table.few.as_ref().map(|typed| {
            let message = "“few”: expected a whole number of entries, 0 or more";
            u64::try_from(*typed.as_ref()).map_err(|_| self.origin.error(typed, message))
        });
        let days = table.stand_days.as_ref().map(|typed| match *typed.as_ref() {
            days @ 0..=3650 => Ok(days),
            _ => Err(self.origin.error(typed, "“stand_days”: expected a number of days from 0 to 3650")),
        });
        Ok(Thresholds {
            most_lost: share("most_lost", &table.most_lost, usual.most_lost)?,
            most_left_out: share("most_left_out", &table.most_left_out, usual.most_left_out)?,
            left_out_may_grow: share("left_out_may_grow", &table.left_out_may_grow, usual.left_out_may_grow)?,
            few: few.transpose()?.unwrap_or(usual.few),
            stand_days: days.transpose()?.unwrap_or(usual.stand_days),
        })
    }

    /// The settings of all engines.
    pub(super) fn engines(&self, tables: &[EngineTable]) -> Result<Vec<EngineSettings>, Failure> {
        for (nth, table) in tables.iter().enumerate() {
            if tables[..nth].iter().any(|other| other.name.as_ref() == table.name.as_ref()) {
                let message = format!(
                    "“name”: another [[engine]] is named “{}” already; each remembers under its name what it was told",
                    table.name.as_ref()
                );
                return Err(self.origin.error(&table.name, message));
            }
        }
        tables.iter().map(|table| self.engine(table)).collect()
    }

    /// The settings of an engine. Its key may come from the ledger.
    fn engine(&self, table: &EngineTable) -> Result<EngineSettings, Failure> {
        let via = engines::named(table.via.as_ref()).ok_or_else(|| {
            let known: Vec<&str> = engines::PROTOCOLS.iter().map(|protocol| protocol.word).collect();
            let message = format!("“via”: “{}” is unknown; expected {}", table.via.as_ref(), known.join(" or "));
            self.origin.error(&table.via, message)
        })?;
        let endpoint = expand(self.origin, &table.endpoint)?;
        Address::parse(endpoint.expose())
            .map_err(|why| self.origin.error(&table.endpoint, endpoint.hide(format!("“endpoint”: {why}"))))?;
        let key = table.key.as_ref().map(|key| {
            let text = expand(self.origin, key)?;
            Key::parse(text.expose()).map_err(|why| self.origin.error(key, text.hide(format!("“key”: {why}"))))
        });
        let wait = match &table.wait_seconds {
            None => 20,
            Some(seconds) => u64::try_from(*seconds.as_ref())
                .ok()
                .filter(|seconds| (1..=300).contains(seconds))
                .ok_or_else(|| self.origin.error(seconds, "“wait_seconds”: expected a number from 1 to 300"))?,
        };
        Ok(EngineSettings {
            name: table.name.as_ref().clone(),
            was: table.was.clone(),
            via,
            endpoint,
            key: key.transpose()?,
            wait: Duration::from_secs(wait),
        })
    }
}
