//! Idle Atlas: sitemaps for a whole site, gathered, split, declared, announced and checked.

mod args;
mod exit;
mod config;
mod screen;
mod session;
mod interrupt;
mod view;
mod sites;
mod commands;
#[cfg(all(test, feature = "test-engine"))]
mod reference_pages;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;
use serde_json::json;

use crate::args::{Arguments, Command, ConfigArguments, ConfigCommand};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;

/// The allocator of musl takes turns: with it, two cores are as slow as one.
#[cfg(target_env = "musl")]
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let arguments = Arguments::try_parse().unwrap_or_else(|error| misused(&error));
    let screen = Screen::new(&arguments.shared);
    let session = Session::new(screen.clone());
    interrupt::listen(&session);
    match run(&arguments, &session) {
        Ok(exit) => exit.into(),
        Err(failure) => {
            let exit = screen.fail(&failure);
            // Programs get one document, whatever happens.
            let document = json!({ "error": failure.to_string(), "exit": exit as u8 });
            match screen.wants_json().then(|| screen.show(&document, String::new)) {
                Some(Err(failure)) => screen.fail(&failure).into(),
                _ => exit.into(),
            }
        }
    }
}

/// Prints an error about the arguments, or the requested help, and exits.
fn misused(error: &clap::Error) -> ! {
    if error.use_stderr() && std::env::args().any(|argument| argument == "--json") {
        let document = json!({ "error": error.to_string().trim_end(), "exit": error.exit_code() });
        // The reader of the output may be gone.
        let _ = writeln!(std::io::stdout(), "{document:#}");
    }
    error.exit()
}

fn run(arguments: &Arguments, session: &Session) -> Result<Exit, Failure> {
    match &arguments.command {
        Command::Init(init) => commands::init::run(init, &arguments.shared, session),
        #[cfg(feature = "test-engine")]
        Command::TestEngine(engine) => commands::test_engine::run(engine, session),
        #[cfg(feature = "test-engine")]
        Command::Demo(demo) => commands::demo::run(demo, session),
        #[cfg(not(feature = "test-engine"))]
        Command::TestEngine(_) | Command::Demo(_) => Err(Failure::said(commands::NO_TEST_ENGINE)),
        Command::Completions(completions) => commands::packaging::completions(completions, &session.screen),
        Command::Manual(manual) => commands::packaging::manual(manual, &session.screen),
        Command::Config(ConfigArguments { what: ConfigCommand::Schema }) => {
            commands::configuration::schema(&session.screen)
        }
        Command::Watch(watch) => commands::watch::run(watch, &arguments.shared, session),
        Command::Check(args::CheckArguments { explain: Some(code), .. }) => commands::check::explain(code, session),
        Command::Check(check) if check.stands_alone() && config::is_none(&arguments.shared) => {
            commands::check::without_configuration(check, session)
        }
        Command::Report(report) if config::are_several(&arguments.shared) => {
            commands::report::of_several(report, &arguments.command, &arguments.shared, session)
        }
        command => {
            let ended = sites::each(&arguments.shared, command, session, |settings, session| {
                commands::travel::around(command, settings, session, || on_site(command, settings, session))
            });
            Ok(ended?.exit)
        }
    }
}

/// Runs a command that is about one site.
fn on_site(command: &Command, settings: &Settings, session: &Session) -> Result<Exit, Failure> {
    match command {
        Command::Survey(survey) => commands::survey::run(settings, survey, session),
        Command::Build(build) => commands::build::run(settings, build, session),
        Command::Why(why) => commands::why::run(settings, why, session),
        Command::Check(check) => commands::check::run(settings, check, session),
        #[cfg(feature = "test-engine")]
        Command::Announce(announce) if announce.rehearse => commands::rehearse::run(settings, announce, session),
        #[cfg(not(feature = "test-engine"))]
        Command::Announce(announce) if announce.rehearse => Err(Failure::said(commands::NO_TEST_ENGINE)),
        Command::Announce(announce) => commands::announce::run(settings, announce, session),
        Command::Serve(serve) => commands::serve::run(settings, serve, session),
        Command::History(history) => commands::history::run(settings, history, session),
        Command::Report(report) => commands::report::run(settings, report, session),
        Command::Uptake(uptake) => commands::uptake::run(settings, uptake, session),
        Command::Config(ConfigArguments { what: ConfigCommand::Show }) => {
            commands::configuration::show(settings, session)
        }
        Command::Config(_) => commands::configuration::check(settings, session),
        Command::Init(_)
        | Command::Watch(_)
        | Command::TestEngine(_)
        | Command::Demo(_)
        | Command::Completions(_)
        | Command::Manual(_) => Ok(Exit::Done),
    }
}
