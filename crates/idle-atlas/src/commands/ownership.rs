//! Placing the files by which consoles know whose site it is.

use std::{fs, io};

use atlas_store::disk;
use atlas_store::ledger::Ledger;
use atlas_store::model::Fact;

use crate::config::Settings;
use crate::exit::Failure;
use crate::session::Session;

/// Writes the files that consoles ask for into the web root, where they are not there yet. Returns whether all of them are
/// there; a file with another content is left as it is.
pub fn place(settings: &Settings, ledger: &mut dyn Ledger, session: &Session) -> Result<bool, Failure> {
    let mut is_whole = true;
    for (name, content) in &settings.ownership.files {
        let path = settings.web_root.join(name);
        match fs::read(&path) {
            Ok(there) if String::from_utf8_lossy(&there).trim() == content.trim() => continue,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Ok(_) | Err(_) => {
                let message = format!(
                    "{} is there already with another content, and was left as it is; remove it, and build again",
                    path.display()
                );
                session.screen.complain("ownership", &message);
                is_whole = false;
                continue;
            }
        }
        disk::replace(&path, format!("{}\n", content.trim_end()).as_bytes())?;
        session.screen.say(&format!("\nownership  wrote {name} into the web root\n"))?;
        if !settings.programs.when_built.is_empty() {
            let undelivered = ledger.fact(Fact::Undelivered)?.map(|names| names + "\n").unwrap_or_default();
            ledger.set_fact(Fact::Undelivered, Some(&format!("{undelivered}site:{name}")))?;
        }
    }
    Ok(is_whole)
}
