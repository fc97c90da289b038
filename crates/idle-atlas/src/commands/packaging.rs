//! The commands for shells and packages: `completions` and `manual`.

use std::fs;

use clap::CommandFactory;

use crate::args::{Arguments, CompletionsArguments, ManualArguments};
use crate::config::reference::tables;
use crate::exit::{Exit, Failure};
use crate::screen::{Screen, count};
use crate::view;
use crate::view::configuration::WrittenManual;

/// The man page of the configuration file.
const CONFIGURATION: &str = "idle-atlas.toml.5";

/// Prints the completions for a shell.
pub fn completions(arguments: &CompletionsArguments, screen: &Screen) -> Result<Exit, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(arguments.shell, &mut Arguments::command(), "idle-atlas", &mut script);
    // For bash, the generator spells a program's name with a hyphen in two ways, so that no option would be completed.
    screen.print(&String::from_utf8_lossy(&script).replace("idle__subcmd__atlas", "idle__atlas"))?;
    Ok(Exit::Done)
}

/// Writes a man page for the program and for each command.
pub fn manual(arguments: &ManualArguments, screen: &Screen) -> Result<Exit, Failure> {
    let folder = &arguments.folder;
    let failed = |error: std::io::Error| Failure::said(format!("cannot write into {}: {error}", folder.display()));
    fs::create_dir_all(folder).map_err(failed)?;
    clap_mangen::generate_to(Arguments::command(), folder).map_err(failed)?;
    fs::write(folder.join(CONFIGURATION), view::configuration::man_page(&tables())).map_err(failed)?;
    let mut pages: Vec<String> = fs::read_dir(folder)
        .map_err(failed)?
        .flatten()
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .filter(|name| name.starts_with("idle-atlas") && (name.ends_with(".1") || name == CONFIGURATION))
        .collect();
    pages.sort();
    let written = WrittenManual { folder: folder.clone(), pages };
    screen.show(&written, || {
        format!(
            "Wrote {} into {}. To read one: man {}\n",
            count(written.pages.len() as u64, "man page", "man pages"),
            folder.display(),
            folder.join("idle-atlas.1").display()
        )
    })?;
    Ok(Exit::Done)
}
