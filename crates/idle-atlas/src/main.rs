//! Idle Atlas: sitemaps for a whole site, gathered, split, declared, announced and checked.

mod args;
mod commands;
mod config;
mod exit;
mod interrupt;
mod screen;
mod view;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Parser;

use crate::args::{Arguments, Command, Shared};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::{STRONG, Screen};

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let screen = Screen::new(&arguments.shared);
    interrupt::listen(&screen);
    match run(&arguments, &screen) {
        Ok(exit) => exit.into(),
        Err(failure) => failure.show(&screen).into(),
    }
}

fn run(arguments: &Arguments, screen: &Screen) -> Result<Exit, Failure> {
    match &arguments.command {
        Command::Init(init) => commands::init::run(init, screen),
        Command::TestEngine(engine) => commands::test_engine::run(engine, screen),
        Command::Demo(demo) => commands::demo::run(demo, screen),
        command => for_each_site(&arguments.shared, screen, |settings, screen| on_site(command, settings, screen)),
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

/// Carries a command out for each configuration that was named. One that fails does not stop the others; the gravest exit
/// code is that of all.
fn for_each_site(
    shared: &Shared,
    screen: &Screen,
    run: impl Fn(&Settings, &Screen) -> Result<Exit, Failure>,
) -> Result<Exit, Failure> {
    let paths = config::named(shared)?;
    if let [path] = &paths[..] {
        return run(&config::load_from(path)?, screen);
    }
    let load = |path: PathBuf| Ok((path.clone(), config::load_from(&path)?));
    let all = paths.into_iter().map(load).collect::<Result<Vec<_>, Failure>>()?;
    config::apart(&all)?;
    let mut gravest = Exit::Done;
    let mut documents = Vec::new();
    for (path, settings) in &all {
        let one = screen.collecting();
        one.say(&format!("{STRONG}{}{STRONG:#} ({})\n\n", settings.site.root(), path.display()))?;
        let exit = run(settings, &one).unwrap_or_else(|failure| failure.show(screen));
        documents.push(serde_json::json!({ "config": path, "exit": exit as u8, "result": one.collected() }));
        one.say("\n")?;
        gravest = gravest.max(exit);
    }
    if screen.wants_json() {
        screen.show(&documents, String::new)?;
    }
    Ok(gravest)
}
