//! Resolving `[[engine]]` and `[guards]`.

use std::ops::Range;
use std::time::Duration;

use atlas_core::address::Address;
use atlas_core::announce::http_call::{CallFor, CallTemplate};
use atlas_core::announce::indexnow::Key;
use atlas_core::announce::{Change, Method};
use atlas_core::judge::Thresholds;
use atlas_io::engines::{self, CallSettings, EngineSettings, TellingLimits, Tells};
use atlas_io::secret::Secret;

use super::context::{Context, expand};
use super::tables::{At, EngineTable, GuardsTable};
use crate::exit::Failure;

impl Context<'_> {
    /// The limits of the guards.
    pub(super) fn thresholds(&self, table: &GuardsTable) -> Result<Thresholds, Failure> {
        let usual = Thresholds::default();
        let share = |key: &str, typed: &Option<At<String>>, usual: u64| {
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

    /// The settings of all engines. `has_feed` tells whether a feed of the newest entries is written.
    pub(super) fn engines(&self, tables: &[EngineTable], has_feed: bool) -> Result<Vec<EngineSettings>, Failure> {
        for (nth, table) in tables.iter().enumerate() {
            if tables[..nth].iter().any(|other| other.name.as_ref() == table.name.as_ref()) {
                let message = format!(
                    "“name”: another [[engine]] is named “{}” already; each remembers under its name what it was told",
                    table.name.as_ref()
                );
                return Err(self.origin.error(&table.name, message));
            }
        }
        tables.iter().map(|table| self.engine(table, has_feed)).collect()
    }

    /// The settings of an engine. Its key may come from the ledger.
    fn engine(&self, table: &EngineTable, has_feed: bool) -> Result<EngineSettings, Failure> {
        let via = engines::named(table.via.as_ref()).ok_or_else(|| {
            let known: Vec<&str> = engines::PROTOCOLS.iter().map(|protocol| protocol.word).collect();
            let message = format!("“via”: “{}” is unknown; expected {}", table.via.as_ref(), known.join(", "));
            self.origin.error(&table.via, message)
        })?;
        self.takes(table, via.word)?;
        let Some(typed) = &table.endpoint else {
            let message = format!(
                "the engine “{}” has no “endpoint”: the address that messages are sent to, such as {}",
                table.name.as_ref(),
                match via.word {
                    "indexnow" => "https://api.indexnow.org/indexnow",
                    "websub" => "https://hub.example/",
                    _ => "https://engine.example/ping",
                }
            );
            return Err(self.origin.error(&table.name, message));
        };
        let endpoint = expand(self.origin, typed)?;
        let is_template = via.word == HTTP_CALL;
        // The fields of a template are not part of an address yet.
        let bare = if is_template { endpoint.map(|text| text.replace(['{', '}'], "")) } else { endpoint.clone() };
        Address::parse(bare.expose())
            .map_err(|why| self.origin.error(typed, bare.hide(format!("“endpoint”: {why}"))))?;
        if via.word == "websub" {
            if !has_feed {
                let message =
                    "“via”: a hub is told of the feed of the newest entries, and none is written; add [newest]";
                return Err(self.origin.error(&table.via, message));
            }
            if typed.as_ref().contains("${") {
                let message = "“endpoint”: the feed names its hub, so the address cannot come from the environment; write it here";
                return Err(self.origin.error(typed, message));
            }
        }
        let key = table.key.as_ref().map(|key| {
            let text = expand(self.origin, key)?;
            Key::parse(text.expose()).map_err(|why| self.origin.error(key, text.hide(format!("“key”: {why}"))))
        });
        let per_day = table.per_day.as_ref().map(|typed| self.number("per_day", Some(typed), (1, 1_000_000_000), 1));
        let pause = self.number("pause_minutes", table.pause_minutes.as_ref(), (0, 525_600), 0i64)?;
        let round = self.number("round_minutes", table.round_minutes.as_ref(), (1, 1_440), 30i64)?;
        let limits =
            TellingLimits { per_day: per_day.transpose()?, pause_seconds: pause * 60, round_seconds: round * 60 };
        let wait = self.number("wait_seconds", table.wait_seconds.as_ref(), (1u64, 300), 20)?;
        let wait = Duration::from_secs(wait);
        let call = if is_template { Some(self.call(table, typed, wait)?) } else { None };
        let tells = match call.as_ref().map(|call| (call.template.each, call.template.most_urls)) {
            None => via.tells,
            Some((CallFor::Url, _)) => Tells::Urls(1),
            Some((CallFor::Batch, most)) => Tells::Urls(most),
            Some((CallFor::Build, _)) => Tells::Main,
            Some((CallFor::File, _)) => Tells::NewFiles,
        };
        Ok(EngineSettings {
            name: table.name.as_ref().clone(),
            was: table.was.clone(),
            on: table.on,
            via,
            tells,
            endpoint,
            key: key.transpose()?,
            call,
            limits,
            wait,
            waits_until_live: table.wait_until_live,
        })
    }

    /// Rejects keys that have no effect with a protocol.
    fn takes(&self, table: &EngineTable, via: &str) -> Result<(), Failure> {
        let calls: [(&str, Option<Range<usize>>); 8] = [
            ("each", table.each.as_ref().map(At::span)),
            ("method", table.method.as_ref().map(At::span)),
            ("headers", table.headers.as_ref().map(At::span)),
            ("body", table.body.as_ref().map(At::span)),
            ("expect", table.expect.as_ref().map(At::span)),
            ("changes", table.changes.as_ref().map(At::span)),
            ("most_urls", table.most_urls.as_ref().map(At::span)),
            ("token_command", table.token_command.as_ref().map(At::span)),
        ];
        let keys = [("indexnow", ("key", table.key.as_ref().map(At::span)))];
        let owned = keys.into_iter().chain(calls.map(|key| (HTTP_CALL, key)));
        for (of, (key, span)) in owned {
            if let Some(span) = span.filter(|_| of != via) {
                let message = format!("“{key}” has no effect on an engine that is told via {via}; it belongs to {of}");
                return Err(self.origin.error_at(span.start, message));
            }
        }
        Ok(())
    }

    /// The settings of a call by template.
    fn call(&self, table: &EngineTable, typed: &At<String>, wait: Duration) -> Result<CallSettings, Failure> {
        let each = match &table.each {
            None => CallFor::Url,
            Some(word) => CallFor::ALL
                .into_iter()
                .find(|each| each.as_str() == word.as_ref())
                .ok_or_else(|| self.origin.error(word, "“each”: expected \"url\", \"batch\", \"build\" or \"file\""))?,
        };
        let body = table.body.as_ref().map(|body| expand(self.origin, body)).transpose()?;
        let usual = if body.is_some() { Method::Post } else { Method::Get };
        let method = match &table.method {
            None => usual,
            Some(word) => Method::ALL.into_iter().find(|method| method.as_str() == word.as_ref()).ok_or_else(|| {
                let known: Vec<String> = Method::ALL.iter().map(|method| format!("\"{}\"", method.as_str())).collect();
                self.origin.error(word, format!("“method”: expected {}", known.join(", ")))
            })?,
        };
        let mut headers = Vec::new();
        for (name, value) in table.headers.iter().flat_map(|headers| headers.as_ref()) {
            let text = expand(self.origin, value)?;
            if !is_header(name, text.expose()) {
                let message = format!("“headers”: {name} is not a header of HTTP, or its value has a line break in it");
                return Err(self.origin.error(value, message));
            }
            headers.push((name.clone(), text.expose().to_owned()));
        }
        let status =
            |typed: &At<Vec<i64>>| {
                let valid = |status: &i64| u16::try_from(*status).ok().filter(|status| (100..=599).contains(status));
                typed.as_ref().iter().map(valid).collect::<Option<Vec<u16>>>().ok_or_else(|| {
                    self.origin.error(typed, "“expect”: expected a list of statuses, such as [200, 204]")
                })
            };
        let expected = table.expect.as_ref().map(status).transpose()?.unwrap_or_default();
        let mut changes = Vec::new();
        for (name, word) in table.changes.iter().flat_map(|changes| changes.as_ref()) {
            let known = [Change::Added, Change::Changed, Change::Removed, Change::Redirected];
            let change = known.into_iter().find(|change| change.as_str() == name).ok_or_else(|| {
                let message = format!("“changes”: “{name}” is unknown; expected added, changed, removed or redirected");
                self.origin.error(word, message)
            })?;
            changes.push((change, word.as_ref().clone()));
        }
        let most_urls = self.number("most_urls", table.most_urls.as_ref(), (1usize, 10_000), 100)?;
        let body_text = body.as_ref().map_or("", Secret::expose).to_owned();
        let template = CallTemplate { each, method, headers, body: body_text, expected, changes, most_urls };
        // Fields are what was typed, not what a variable happens to contain.
        let without = CallTemplate {
            headers: (table.headers.iter().flat_map(|headers| headers.as_ref()))
                .map(|(name, value)| (name.clone(), without_variables(value.as_ref())))
                .collect(),
            body: table.body.as_ref().map_or_else(String::new, |body| without_variables(body.as_ref())),
            ..template.clone()
        };
        let address = without_variables(typed.as_ref());
        without.check(&address).map_err(|why| {
            let at = table.body.as_ref().unwrap_or(typed);
            self.origin.error(at, why.to_string())
        })?;
        let token = table.token_command.as_ref().map(|run| self.program("token_command", run, wait)).transpose()?;
        match (&token, without.wants_token(&address), &table.token_command) {
            (Some(_), false, Some(at)) => {
                let message = "“token_command”: nothing uses its output; write {token} where the token belongs, such as headers = { Authorization = \"Bearer {token}\" }";
                Err(self.origin.error(at, message))
            }
            (None, true, _) => {
                Err(self.origin.error(typed, "{token} needs “token_command”: the command that prints it"))
            }
            _ => Ok(CallSettings { template, token }),
        }
    }
}

/// A text without `${NAME}`.
fn without_variables(typed: &str) -> String {
    let mut out = String::new();
    let mut rest = typed;
    while let Some((before, after)) = rest.split_once("${") {
        out.push_str(before);
        rest = after.split_once('}').map_or("", |(_, tail)| tail);
    }
    out + rest
}

/// The protocol that calls by template.
const HTTP_CALL: &str = "http-call";

/// Whether a header may be sent (RFC 9110, section 5).
fn is_header(name: &str, value: &str) -> bool {
    let token = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&byte);
    !name.is_empty() && name.bytes().all(token) && !value.contains(['\r', '\n', '\0'])
}
