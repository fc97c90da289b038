//! The command `uptake`: access logs and exports of consoles, laid over what is listed.

use std::path::Path;

use atlas_core::lastmod::Lastmod;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::log::LogFormat;
use atlas_core::uptake::standing::PageState;
use atlas_io::uptake::{ExportSettings, LogSyntax, UptakeFile, UptakeForm, read_export, read_logs};
use atlas_store::ledger::Ledger;
use atlas_store::model::UptakePart;
use atlas_store::source::Source;
use atlas_store::uptake::{LogsRead, LookBuilder, Overlaid, PageKnowledge, PageUptake, Subjects, Visits, overlay};
use serde_json::json;

use super::{LookedAt, open_ledger};
use crate::args::{ExportOf, ListFormat, UptakeArguments, UptakeState};
use crate::config::{EngineExports, Settings};
use crate::exit::{Exit, Failure};
use crate::screen::{count, grouped};
use crate::session::Session;
use crate::view;

/// The name of an engine that nobody has named.
const UNNAMED: &str = "console";
/// Consoles cut their exports at round numbers of rows.
const CUTS: [u64; 6] = [500, 1_000, 5_000, 10_000, 25_000, 50_000];

pub fn run(settings: &Settings, arguments: &UptakeArguments, session: &Session) -> Result<Exit, Failure> {
    if let Some(what) = &arguments.forget {
        return forget(settings, what, session);
    }
    let screen = &session.screen;
    let mut opened = match arguments.files.is_empty() {
        true => LookedAt::open(settings, screen)?,
        false => LookedAt { ledger: open_ledger(settings, screen)?, copy: None },
    };
    let subjects = subjects(settings, &*opened.ledger)?;
    let mut visits = Visits::read(&*opened.ledger, &subjects, &settings.uptake.crawlers()?)?;
    let exit = match arguments.files.is_empty() {
        true => Exit::Done,
        false => take(settings, arguments, &mut *opened.ledger, (&subjects, &mut visits), session)?,
    };
    let ledger = &*opened.ledger;
    let overlaid = lay_over(settings, ledger, (&subjects, &visits, &settings.sources), session, |overlaid| {
        show(settings, arguments, ledger, overlaid, session)
    });
    overlaid.map(|()| exit)
}

/// Everything that is listed; an error if nothing has been built.
fn subjects(settings: &Settings, ledger: &dyn Ledger) -> Result<Subjects, Failure> {
    if ledger.last_run()? == 0 {
        return Err(Failure::said(
            "nothing has been built yet, so there is nothing to compare with; begin with: idle-atlas build",
        ));
    }
    Ok(Subjects::read(ledger, &settings.site, &settings.names)?)
}

/// Lays everything that is known over what is listed. What sources know of pages is read only if they are named: states
/// can do without.
pub fn with<T>(
    settings: &Settings,
    ledger: &dyn Ledger,
    sources: &[Box<dyn Source>],
    session: &Session,
    then: impl FnOnce(&Overlaid<'_>) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let subjects = subjects(settings, ledger)?;
    let visits = Visits::read(ledger, &subjects, &settings.uptake.crawlers()?)?;
    lay_over(settings, ledger, (&subjects, &visits, sources), session, then)
}

fn lay_over<T>(
    settings: &Settings,
    ledger: &dyn Ledger,
    (subjects, visits, sources): (&Subjects, &Visits<'_>, &[Box<dyn Source>]),
    session: &Session,
    then: impl FnOnce(&Overlaid<'_>) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let knowledge = PageKnowledge::read(ledger, subjects, sources, (&settings.reader, settings.thin_words.usual))?;
    let now = session.now().as_second();
    then(&overlay(ledger, (subjects, visits, &knowledge), now, settings.uptake.patience_days)?)
}

fn show(
    settings: &Settings,
    arguments: &UptakeArguments,
    ledger: &dyn Ledger,
    overlaid: &Overlaid<'_>,
    session: &Session,
) -> Result<(), Failure> {
    let screen = &session.screen;
    if !arguments.list {
        let overview = overlaid.overview(ledger, &settings.names)?;
        return screen.show(&overview, || view::uptake::overview(&overview, &screen.layout(settings)));
    }
    let wanted = &arguments.wanted;
    if let Some(name) = &wanted.section
        && !overlaid.sections().contains(name)
    {
        let known = overlaid.sections().join(", ");
        return Err(Failure::said(format!("--section: there is no section “{name}”; known: {known}")));
    }
    let fits = |page: &PageUptake| {
        wanted.section.as_ref().is_none_or(|section| *section == page.section)
            && wanted.under.as_ref().is_none_or(|path| settings.site.path(&page.url).starts_with(path.as_str()))
            && wanted.state.is_none_or(|state| match state {
                UptakeState::PickedUp => page.state == PageState::PickedUp,
                UptakeState::NotPickedUp => page.state == PageState::NotPickedUp,
                UptakeState::Waiting => page.state == PageState::Waiting,
                UptakeState::Fetched => page.visits > 0,
                UptakeState::NeverFetched => page.visits == 0 && page.state != PageState::Waiting,
                UptakeState::Error => page.status.is_some_and(|status| status >= 400),
            })
    };
    let mut pages = overlaid.pages(ledger, &fits)?;
    pages.sort_by(|one, other| (one.state, &one.url).cmp(&(other.state, &other.url)));
    let all = pages.len() as u64;
    pages.truncate(wanted.most.unwrap_or(usize::MAX));
    match wanted.form {
        ListFormat::Json => screen.for_programs().show(&pages, String::new),
        ListFormat::Table => screen.show(&pages, || view::uptake::pages::list(&pages, all, &screen.layout(settings))),
        ListFormat::Csv => screen.show(&pages, || view::uptake::pages::csv(&pages, !screen.is_a_further_site())),
    }
}

/// Takes logs and exports, and remembers what they say.
fn take(
    settings: &Settings,
    arguments: &UptakeArguments,
    ledger: &mut dyn Ledger,
    (subjects, visits): (&Subjects, &mut Visits<'_>),
    session: &Session,
) -> Result<Exit, Failure> {
    session.stop.heed();
    let mut taking = Taking { settings, arguments, session, troubles: 0, remarks: 0, used: 0, looks: Vec::new() };
    let mut logs = Vec::new();
    let formats = taking.formats()?;
    let at = taking.at()?;
    for name in &arguments.files {
        let file = match UptakeFile::open(name) {
            Ok(file) => file,
            Err(error) => {
                taking.trouble(name, &error.to_string());
                continue;
            }
        };
        match UptakeForm::of(&file, &formats, &settings.uptake.json_log) {
            UptakeForm::Log(form) => logs.push((file, form)),
            form => taking.export(&file, &form, subjects, at),
        }
    }
    taking.logs(&logs, visits)?;
    if session.stop.is_asked() {
        return Err(Failure::said("stopped before anything was remembered"));
    }
    if taking.used == 0 {
        return Err(Failure::said("none of the files could be used, so nothing has changed"));
    }
    let Taking { mut looks, troubles, remarks, .. } = taking;
    let before = ledger.looks()?;
    for look in &mut looks {
        if let Some((id, earlier)) =
            before.iter().find(|(_, earlier)| look.of() == (earlier.engine.as_str(), earlier.subject))
        {
            look.go_on_from(earlier, ledger.look_records(*id)?);
        }
        let (engine, subject) = look.of();
        if let Some((day, numbers)) = ledger.numbers(engine, subject, 1)?.pop() {
            look.add_numbers(day, numbers);
        }
    }
    let writing = ledger.transaction()?;
    for look in looks {
        look.keep(&*writing, visits)?;
    }
    visits.keep(&*writing)?;
    writing.commit()?;
    Ok(session.screen.exit(troubles > 0, remarks > 0))
}

/// Files being taken.
struct Taking<'t> {
    settings: &'t Settings,
    arguments: &'t UptakeArguments,
    session: &'t Session,
    troubles: u64,
    /// What is worth a look and holds nothing back.
    remarks: u64,
    used: u64,
    looks: Vec<LookBuilder<'t>>,
}

impl<'t> Taking<'t> {
    fn remark(&mut self, what: &str, message: &str) {
        self.remarks += 1;
        self.session.screen.complain(what, message);
    }

    fn trouble(&mut self, name: &str, why: &str) {
        self.troubles += 1;
        self.session.screen.complain("not used", &format!("{name}: {why}"));
    }

    /// The formats in which logs may be written.
    fn formats(&self) -> Result<Vec<LogFormat>, Failure> {
        let typed = self
            .arguments
            .log_format
            .as_ref()
            .map(|pattern| LogFormat::parse(pattern).map_err(|why| Failure::said(format!("--log-format: {why}"))));
        let own = typed.transpose()?.or_else(|| self.settings.uptake.log_format.clone());
        Ok(own.into_iter().chain(LogFormat::usual()).collect())
    }

    /// The instant of the exports.
    fn at(&self) -> Result<i64, Failure> {
        let now = self.session.now().as_second();
        let Some(typed) = &self.arguments.on else { return Ok(now) };
        let date = Lastmod::read(typed, self.settings.timezone());
        let date = date.ok_or_else(|| Failure::said(format!("--on: “{typed}” is not a date such as 2026-12-01")))?;
        // Of a day, its last second: what happened on it is known by then.
        let ends = self.settings.instants_of(&date);
        let at = ends.last().map_or(now, |at| at.as_second() - i64::from(ends.len() > 1));
        match date.seconds() > now {
            true => Err(Failure::said(format!("--on: {typed} is still to come"))),
            false => Ok(at.min(now)),
        }
    }

    /// Which table of the configuration is about a file.
    fn declared(&self, name: &str) -> Option<&'t EngineExports> {
        let exports = &self.settings.uptake.exports;
        let file_name = Path::new(name).file_name().map(|name| name.to_string_lossy().into_owned());
        let fits = |one: &&EngineExports| match (&self.arguments.engine, &one.files) {
            (Some(engine), _) => one.engine == *engine,
            (None, Some(files)) => file_name.as_ref().is_some_and(|name| files.is_match(name)),
            (None, None) => exports.len() == 1,
        };
        exports.iter().find(fits)
    }

    fn export(&mut self, file: &UptakeFile, form: &UptakeForm, subjects: &'t Subjects, at: i64) {
        let (arguments, declared) = (self.arguments, self.declared(&file.name));
        let engine = arguments.engine.clone().or_else(|| declared.map(|one| one.engine.clone()));
        let engine = engine.unwrap_or_else(|| UNNAMED.to_owned());
        let of = arguments.of.map(|of| match of {
            ExportOf::Pages => Subject::Pages,
            ExportOf::Images => Subject::Images,
            ExportOf::Videos => Subject::Videos,
        });
        let settings = ExportSettings {
            columns: declared.map(|one| one.columns.clone()).unwrap_or_default(),
            dates: arguments.dates.clone().or_else(|| declared.and_then(|one| one.dates.clone())),
            timezone: self.settings.timezone().clone(),
            subject: of.or_else(|| declared.and_then(|one| one.of)),
        };
        let words = declared.map_or(&[][..], |one| &one.picked_up);
        let reason = arguments.not_taken.as_deref();
        let mut look: Option<LookBuilder<'t>> = None;
        let read = read_export(file, form, &settings, &self.session.stop, &mut |subject, row| {
            let look = look.get_or_insert_with(|| {
                let mut look = LookBuilder::new(subjects, &engine, subject, at, words);
                look.file(&file.name);
                look
            });
            match reason {
                Some(reason) if row.reason.is_none() => {
                    let reason = Some(reason).filter(|reason| !reason.is_empty());
                    look.row(&atlas_store::uptake::ExportRow { reason, ..*row }, false)
                }
                _ => look.row(row, true),
            }
        });
        let reading = match read {
            Ok(reading) => reading,
            Err(error) => {
                let lines = "it is neither an access log in a known format (say which with --log-format) nor an export";
                let why = match error {
                    atlas_io::uptake::ExportError::Columns(_) if settings.columns.is_empty() => {
                        format!("{error}; {lines}")
                    }
                    _ => error.to_string(),
                };
                return self.trouble(&file.name, &why);
            }
        };
        let Some(mut look) = look else { return self.trouble(&file.name, "it has no rows") };
        let (ours, others) = look.so_far();
        let elsewhere: Vec<String> =
            others.iter().map(|(host, rows)| format!("{host} ({})", count(*rows, "row", "rows"))).collect();
        let host = self.settings.site.root().host();
        if ours == 0 {
            let why = match elsewhere.is_empty() {
                true => "no row has a URL that can be read".to_owned(),
                false => format!("none of its URLs is on {host}; they are on {}", elsewhere.join(", ")),
            };
            return self.trouble(&file.name, &why);
        }
        if reading.broken > 0 {
            self.troubles += 1;
            let others =
                if elsewhere.is_empty() { String::new() } else { format!("; other hosts: {}", elsewhere.join(", ")) };
            let rows = count(reading.broken, "row has", "rows have");
            self.session.screen.complain("passed over", &format!("{}: {rows} no URL on {host}{others}", file.name));
        }
        if let Some(why) = &reading.trouble {
            self.troubles += 1;
            look.was_cut();
            let rows = count(reading.rows, "row before that counts", "rows before that count");
            self.session.screen.complain("read in part", &format!("{}: {why}; {rows}", file.name));
        }
        let mut used: Vec<_> = reading.columns.used().collect();
        used.sort_unstable_by_key(|(_, at)| *at);
        let used: Vec<String> = used.iter().map(|(column, at)| format!("{column} in column {}", at + 1)).collect();
        let unused = &reading.columns.unused;
        let unused = if unused.is_empty() { String::new() } else { format!("; not used: {}", unused.join(", ")) };
        let rows = count(ours, "row", "rows");
        let message = format!(
            "{}: {rows} about {} from {engine}; {}{unused}",
            file.name,
            view::uptake::subject(reading.subject),
            used.join(", ")
        );
        self.session.screen.note("read", &message);
        if CUTS.contains(&reading.rows) {
            self.remark(
                "perhaps cut",
                &format!(
                    "{}: consoles often end their exports after {} rows; what it lacks counts as not picked up",
                    file.name,
                    grouped(reading.rows)
                ),
            );
        }
        self.used += 1;
        match self.looks.iter_mut().find(|known| known.of() == (engine.as_str(), reading.subject)) {
            Some(known) => known.merge(look),
            None => self.looks.push(look),
        }
    }

    fn logs(&mut self, logs: &[(UptakeFile, LogSyntax)], visits: &mut Visits<'_>) -> Result<(), Failure> {
        if logs.is_empty() {
            return Ok(());
        }
        let screen = &self.session.screen;
        let before = visits.logs.clone();
        let progress = screen.progress();
        let bytes = std::sync::atomic::AtomicU64::new(0);
        let more = |read: u64| {
            let all = bytes.fetch_add(read, std::sync::atomic::Ordering::Relaxed) + read;
            progress.read(all);
        };
        let (readings, counted) = read_logs(logs, visits, &self.session.stop, &more)
            .map_err(|error| Failure::said(format!("cannot read the logs: {error}")))?;
        drop(progress);
        counted.into_iter().for_each(|counted| visits.add(counted));
        for ((file, form), reading) in logs.iter().zip(readings) {
            self.used += 1;
            if let Some(why) = reading.trouble {
                self.troubles += 1;
                screen.complain("read in part", &format!("{}: {why}; the lines before that count", file.name));
            }
            if reading.known > 0 {
                screen.note("continued", &format!("{}: its first lines were counted before", file.name));
            }
            if matches!(form, LogSyntax::Text(format) if !format.tells_agent()) {
                self.remark("no crawlers", &format!("{}: its lines name no user agent, so no crawler is recognised; let the server write the Combined Log Format", file.name));
            }
            reading.mark.into_iter().for_each(|mark| visits.logs.mark(mark));
        }
        self.tell(&before, &visits.logs);
        Ok(())
    }

    /// Says what could not be used of the logs.
    fn tell(&mut self, before: &LogsRead, now: &LogsRead) {
        let (lines, broken) = (now.lines - before.lines, now.broken - before.broken);
        self.session.screen.note(
            "read",
            &match lines {
                0 => "nothing in the access logs is new".to_owned(),
                lines => format!("{} of access logs", count(lines, "line", "lines")),
            },
        );
        if broken > 0 {
            let share = 100.0 * broken as f64 / lines.max(1) as f64;
            let lines = count(broken, "line of the access logs", "lines of the access logs");
            self.remark("passed over", &format!("{lines} cannot be read ({share:.1} %)"));
        }
        let elsewhere = now.other_hosts - before.other_hosts;
        if elsewhere > 0 {
            let requests = count(elsewhere, "request of a crawler is", "requests of crawlers are");
            let host = self.settings.site.root().host();
            self.remark("passed over", &format!("{requests} for another host than {host}"));
        }
    }
}

/// Forgets what logs said, or the exports of an engine.
fn forget(settings: &Settings, what: &str, session: &Session) -> Result<Exit, Failure> {
    let mut ledger = open_ledger(settings, &session.screen)?;
    let engines: Vec<String> = ledger.looks()?.into_iter().map(|(_, look)| look.engine).collect();
    let writing = ledger.transaction()?;
    let words = match what {
        "logs" => {
            writing.forget_logs()?;
            "Forgotten: what access logs said.\n".to_owned()
        }
        engine if engines.iter().any(|known| known == engine) => {
            let exports = writing.forget_looks(engine)?;
            format!("Forgotten: {} of {engine}.\n", count(exports as u64, "export", "exports"))
        }
        other => {
            let mut known = engines;
            known.push("logs".to_owned());
            known.sort();
            known.dedup();
            return Err(Failure::said(format!(
                "--forget: nothing is known of “{other}”; expected one of {}",
                known.join(", ")
            )));
        }
    };
    writing.commit()?;
    session.screen.show(&json!({ "forgotten": what }), || words)?;
    Ok(Exit::Done)
}

/// What is known of one page, if anything is; for `why`.
pub fn of_page(
    settings: &Settings,
    ledger: &dyn Ledger,
    address: &str,
    session: &Session,
) -> Result<Option<PageUptake>, Failure> {
    if !is_known(ledger)? {
        return Ok(None);
    }
    with(settings, ledger, &[], session, |overlaid| Ok(overlaid.of_page(ledger, address)?))
}

/// Whether logs or exports were ever given.
pub fn is_known(ledger: &dyn Ledger) -> Result<bool, Failure> {
    Ok(!ledger.visits(UptakePart::Logs)?.is_empty() || !ledger.looks()?.is_empty())
}
