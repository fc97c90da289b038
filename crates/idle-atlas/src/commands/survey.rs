//! `survey`: what would be in, and what is left out and why; as a whole, or entry by entry.

use atlas_core::choose::Reason;
use atlas_store::build::{list, survey};
use atlas_store::ledger::Ledger;
use atlas_store::look::{Filter, Listing, Order};

use crate::args::{self, Form, Sort};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

pub fn run(settings: &Settings, arguments: &args::Survey, screen: &Screen) -> Result<Exit, Failure> {
    match arguments.list {
        true => one_by_one(settings, arguments, screen),
        false => whole(settings, arguments.fresh, screen),
    }
}

/// The site as a whole.
pub fn whole(settings: &Settings, fresh: bool, screen: &Screen) -> Result<Exit, Failure> {
    let mut ledger = Ledger::open(&settings.ledger)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let found = survey(&settings.job(fresh, &[], &more), &mut ledger)?;
    drop(progress);
    screen.show(&found, || view::survey::survey(&found, screen.is_verbose()))?;
    Ok(Exit::looking_at(view::survey::has_problems(&found)))
}

fn one_by_one(settings: &Settings, arguments: &args::Survey, screen: &Screen) -> Result<Exit, Failure> {
    let wanted = &arguments.wanted;
    let listing = listing(settings, wanted)?;
    let mut ledger = Ledger::open(&settings.ledger)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let (entries, count) = list(&settings.job(arguments.fresh, &[], &more), &mut ledger, &listing)?;
    drop(progress);
    match wanted.form {
        Form::Json => screen.for_programs().show(&entries, String::new)?,
        Form::Table => screen.show(&entries, || view::listing::table(&entries, count))?,
        Form::Csv => screen.show(&entries, || view::listing::csv(&entries))?,
    }
    Ok(Exit::looking_at(false))
}

/// What was typed, as what it means; a name that nothing bears is an error.
fn listing(settings: &Settings, wanted: &args::Wanted) -> Result<Listing, Failure> {
    let reason = wanted.reason.as_deref().map(|code| {
        Reason::named(code).ok_or_else(|| {
            let known: Vec<&str> = Reason::ALL.iter().map(|reason| reason.code()).collect();
            Failure::said(format!("--reason: “{code}” is unknown; expected one of {}", known.join(", ")))
        })
    });
    let unknown = |what: &str, name: &str, known: &[&str]| {
        Err(Failure::said(format!("--{what}: there is no {what} “{name}”; known: {}", known.join(", "))))
    };
    let sections = settings.section_names();
    if let Some(name) = wanted.section.as_deref().filter(|name| !sections.contains(name)) {
        return unknown("section", name, &sections);
    }
    let sources = settings.source_names();
    let sources: Vec<&str> = sources.iter().map(String::as_str).collect();
    if let Some(name) = wanted.source.as_deref().filter(|name| !sources.iter().any(|known| known.contains(name))) {
        return unknown("source", name, &sources);
    }
    if let Some(path) = wanted.under.as_deref().filter(|path| !path.starts_with('/')) {
        return Err(Failure::said(format!("--under: “{path}” has to begin with “/”, as paths do: such as /journal/")));
    }
    let order = match wanted.sort {
        Sort::Found => Order::Found,
        Sort::Url => Order::Url,
        Sort::Newest => Order::Newest,
        Sort::Pictures => Order::Pictures,
    };
    let filter = Filter {
        section: wanted.section.clone(),
        reason: reason.transpose()?,
        source: wanted.source.clone(),
        under: wanted.under.clone(),
    };
    Ok(Listing { filter, order, most: wanted.most })
}
