//! Placing the files by which consoles know whose site it is.

use std::collections::HashMap;

use atlas_core::check::{Findings, Ownership};
use atlas_io::live::Deployed;
use atlas_store::destination::{of_web_root, replace};
use atlas_store::ledger::Ledger;
use atlas_store::model::Fact;

use crate::config::Settings;
use crate::exit::Failure;
use crate::session::Session;

/// Looks whether the live site still has what consoles ask for, and reports what is missing.
pub fn look(settings: &Settings, live: &Deployed<'_>, session: &Session) -> Result<(), Failure> {
    if settings.ownership == Ownership::default() {
        return Ok(());
    }
    let root = settings.site.root().as_str();
    let home = live.body(root)?;
    let mut files = HashMap::new();
    for (name, _) in &settings.ownership.files {
        files.insert(name.as_str(), live.body(&format!("{root}{name}"))?);
    }
    let read = |name: &str| files.get(name).cloned().flatten();
    let mut findings = Findings::new(&settings.accepted);
    settings.ownership.missing(root, home.as_deref(), read, &mut findings);
    for finding in findings.finish().findings {
        session.screen.complain("ownership", &format!("on the live site {}", finding.what));
    }
    Ok(())
}

/// Writes the files that consoles ask for into the web root, where they are not there yet. Returns whether all of them are
/// there; a file with another content is left as it is.
pub fn place(settings: &Settings, ledger: &mut dyn Ledger, session: &Session) -> Result<bool, Failure> {
    let (destination, _) = settings.destination();
    let mut is_whole = true;
    for (name, content) in &settings.ownership.files {
        let file = of_web_root(name);
        match destination.read(&file) {
            Ok(Some(there)) if String::from_utf8_lossy(&there).trim() == content.trim() => continue,
            Ok(None) if destination.version(&file)?.is_none() => {}
            Ok(_) | Err(_) => {
                let message = format!(
                    "{} is there already with another content, and was left as it is; remove it, and build again",
                    destination.shown(&file)
                );
                session.screen.complain("ownership", &message);
                is_whole = false;
                continue;
            }
        }
        replace(destination, &file, format!("{}\n", content.trim_end()).as_bytes())?;
        destination.publish()?;
        session.screen.say(&format!("\nownership  wrote {name} into the web root\n"))?;
        if !settings.programs.when_built.is_empty() {
            let undelivered = ledger.fact(Fact::Undelivered)?.map(|names| names + "\n").unwrap_or_default();
            ledger.set_fact(Fact::Undelivered, Some(&format!("{undelivered}{file}")))?;
        }
    }
    Ok(is_whole)
}
