//! Idle Atlas: sitemaps for a whole site, gathered, split, declared, announced and checked.

mod args;
mod commands;
mod config;
mod exit;
mod interrupt;
mod screen;
mod sites;
mod view;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;
use serde_json::json;

use crate::args::{Arguments, Command};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;

fn main() -> ExitCode {
    let arguments = Arguments::try_parse().unwrap_or_else(|error| misused(&error));
    let screen = Screen::new(&arguments.shared);
    interrupt::listen(&screen);
    match run(&arguments, &screen) {
        Ok(exit) => exit.into(),
        Err(failure) => {
            let exit = failure.show(&screen);
            // Programs read one document, whatever happens.
            let document = json!({ "error": failure.to_string(), "exit": exit as u8 });
            match screen.wants_json().then(|| screen.show(&document, String::new)) {
                Some(Err(failure)) => failure.show(&screen).into(),
                _ => exit.into(),
            }
        }
    }
}

/// Tells what is wrong about the arguments, or what was asked about them, and ends.
fn misused(error: &clap::Error) -> ! {
    if error.use_stderr() && std::env::args().any(|argument| argument == "--json") {
        let document = json!({ "error": error.to_string().trim_end(), "exit": error.exit_code() });
        // Whoever read the output may have gone.
        let _ = writeln!(std::io::stdout(), "{document:#}");
    }
    error.exit()
}

fn run(arguments: &Arguments, screen: &Screen) -> Result<Exit, Failure> {
    match &arguments.command {
        Command::Init(init) => commands::init::run(init, &arguments.shared, screen),
        Command::TestEngine(engine) => commands::test_engine::run(engine, screen),
        Command::Demo(demo) => commands::demo::run(demo, screen),
        Command::Check(args::Check { folder: Some(folder) }) if config::is_none(&arguments.shared) => {
            commands::check::without_configuration(folder, screen)
        }
        command => {
            sites::each(&arguments.shared, command, screen, |settings, screen| on_site(command, settings, screen))
        }
    }
}

/// A command that is about one site.
fn on_site(command: &Command, settings: &Settings, screen: &Screen) -> Result<Exit, Failure> {
    match command {
        Command::Survey(survey) => commands::survey::run(settings, survey, screen),
        Command::Build(build) => commands::build::run(settings, build, screen),
        Command::Why(why) => commands::why::run(settings, why, screen),
        Command::Check(check) => commands::check::run(settings, check, screen),
        Command::Announce(announce) => commands::announce::run(settings, announce, screen),
        Command::History(history) => commands::history::run(settings, history, screen),
        Command::Init(_) | Command::TestEngine(_) | Command::Demo(_) => Ok(Exit::Done),
    }
}
