//! The command `survey`: what would be listed, and what is left out and why, as a whole or entry by entry.

use std::path::Path;

use atlas_core::choose::Reason;
use atlas_core::uptake::standing::PageState;
use atlas_store::build::{list, made_sections, survey};
use atlas_store::diagnostics::{Filter, Listed, Listing, ListingOrder};
use atlas_store::disk;
use atlas_store::ledger::{self, Ledger};
use atlas_store::report::Survey;

use super::report::outside_of_what_is_served;
use super::{LookedAt, known, uptake};
use crate::args::{self, ListFormat, Sort};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::view;

pub fn run(settings: &Settings, arguments: &args::SurveyArguments, session: &Session) -> Result<Exit, Failure> {
    if let [code, patterns @ ..] = &arguments.accept[..] {
        return known::accept(settings, code, patterns, &session.screen);
    }
    match (&arguments.html, arguments.list) {
        (Some(file), _) => as_page(settings, file, arguments.fresh, session),
        (None, true) => one_by_one(settings, arguments, session),
        (None, false) => {
            let found = whole(settings, arguments.fresh, session)?;
            Ok(session.screen.exit(found.is_in_part(), found.has_remarks()))
        }
    }
}

/// Writes the owner's page with every entry. It includes entries that are left out, so it must not be in a served
/// folder.
pub fn as_page(settings: &Settings, file: &Path, fresh: bool, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let own;
    let file = if screen.is_one_of_several() {
        own = settings.file_of_site(file);
        own.as_path()
    } else {
        file
    };
    let folder = outside_of_what_is_served(settings, file)?;
    let mut looked_at = LookedAt::open(settings, screen)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = looked_at.job(settings.job(session.now(), &session.stop)).strict(true).fresh(fresh).progress(&more);
    let (entries, _) = list(&job, &mut *looked_at.ledger, &Listing::default())?;
    drop(progress);
    let pictures = view::owner::Pictures::new(&settings.site, &settings.web_root, &folder);
    let page = view::owner::page(settings.site.root().as_str(), settings.folder_address(), &entries, &pictures);
    disk::replace(file, page.as_bytes())?;
    let written = view::owner::OwnerPage { file: file.to_owned(), entries: entries.len() };
    screen.show(&written, || view::owner::written(file, entries.len()))?;
    Ok(Exit::Done)
}

/// Surveys the site as a whole.
pub fn whole(settings: &Settings, fresh: bool, session: &Session) -> Result<Survey, Failure> {
    let screen = &session.screen;
    let mut looked_at = LookedAt::open(settings, screen)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = looked_at.job(settings.job(session.now(), &session.stop)).instant_is_set(session.clock.is_set());
    let job = job.strict(screen.is_strict()).fresh(fresh).progress(&more);
    let found = survey(&job.telling(screen.examples(), &settings.accepted), &mut *looked_at.ledger)?;
    drop(progress);
    let left_out = found.left_out.iter().map(|left_out| left_out.counted.count).sum();
    screen.count(&[("entries", found.entries()), ("left out", left_out), ("guards", found.held.len() as u64)]);
    screen.show(&found, || view::survey::survey(&found, &screen.layout(settings)))?;
    screen.complain_of_sources(&found);
    Ok(found)
}

fn one_by_one(settings: &Settings, arguments: &args::SurveyArguments, session: &Session) -> Result<Exit, Failure> {
    let (wanted, screen) = (&arguments.wanted, &session.screen);
    let listing = listing(settings, wanted)?;
    let mut looked_at = LookedAt::open(settings, screen)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job =
        looked_at.job(settings.job(session.now(), &session.stop)).strict(true).fresh(arguments.fresh).progress(&more);
    let (mut entries, count) = list(&job, &mut *looked_at.ledger, &listing)?;
    drop(progress);
    if wanted.sort == Sort::Uptake {
        by_uptake(settings, &*looked_at.ledger, &mut entries, session)?;
        entries.truncate(wanted.most.unwrap_or(usize::MAX));
    }
    match wanted.form {
        ListFormat::Json => screen.for_programs().show(&entries, String::new)?,
        ListFormat::Table => {
            screen.show(&entries, || view::listing::table(&entries, count, &screen.layout(settings)))?
        }
        ListFormat::Csv => screen.show(&entries, || view::listing::csv(&entries, !screen.is_a_further_site()))?,
    }
    Ok(Exit::Done)
}

/// Sorts entries by what engines did with them: what they have not taken comes first.
fn by_uptake(
    settings: &Settings,
    ledger: &dyn Ledger,
    entries: &mut [Listed],
    session: &Session,
) -> Result<(), Failure> {
    if !uptake::is_known(ledger)? {
        return Err(Failure::said(
            "--sort uptake: nothing is known of what engines did; begin with: idle-atlas uptake FILE",
        ));
    }
    uptake::with(settings, ledger, &[], session, |overlaid| {
        let state = |entry: &Listed| {
            let address = settings.site.address(&entry.url).ok();
            address.and_then(|address| overlaid.state_of(address.as_str())).unwrap_or(PageState::Unknown)
        };
        for entry in entries.iter_mut() {
            entry.uptake = Some(state(entry));
        }
        entries.sort_by_key(|entry| entry.uptake);
        Ok(())
    })
}

/// The options of a list from what was typed. Unknown names are errors.
fn listing(settings: &Settings, wanted: &args::ListOptions) -> Result<Listing, Failure> {
    let reason = wanted.reason.as_deref().map(|code| {
        Reason::named(code).ok_or_else(|| {
            let known: Vec<&str> = Reason::ALL.iter().map(|reason| reason.code()).collect();
            Failure::said(format!("--reason: “{code}” is unknown; expected one of {}", known.join(", ")))
        })
    });
    let unknown = |what: &str, name: &str, known: &[&str]| {
        Err(Failure::said(format!("--{what}: there is no {what} “{name}”; known: {}", known.join(", "))))
    };
    let made = match ledger::open_for_reading(&settings.ledger)? {
        Some(ledger) => made_sections(&*ledger)?,
        None => Vec::new(),
    };
    let mut sections = settings.section_names();
    sections.extend(made.iter().map(String::as_str));
    if let Some(name) = wanted.section.as_deref().filter(|name| !sections.contains(name)) {
        return unknown("section", name, &sections);
    }
    let sources = settings.source_names();
    let sources: Vec<&str> = sources.iter().map(String::as_str).collect();
    if let Some(name) = wanted.source.as_deref().filter(|name| !sources.iter().any(|known| known.contains(name))) {
        return unknown("source", name, &sources);
    }
    if let Some(path) = wanted.under.as_deref().filter(|path| !path.starts_with('/')) {
        return Err(Failure::said(format!("--under: “{path}” must begin with “/”, as paths do: such as /journal/")));
    }
    let order = match wanted.sort {
        Sort::Found | Sort::Uptake => ListingOrder::Found,
        Sort::Url => ListingOrder::Url,
        Sort::Newest => ListingOrder::Newest,
        Sort::Pictures => ListingOrder::Pictures,
    };
    let filter = Filter {
        section: wanted.section.clone(),
        reason: reason.transpose()?,
        source: wanted.source.clone(),
        under: wanted.under.clone(),
    };
    let most = wanted.most.filter(|_| wanted.sort != Sort::Uptake);
    Ok(Listing { filter, order, most })
}
