//! Idle Atlas: sitemaps for a whole site, gathered, split, declared, announced and checked.

mod args;
mod commands;
mod config;
mod exit;
mod screen;
mod view;

use std::process::ExitCode;

use clap::Parser;

use crate::args::{Arguments, Command};
use crate::exit::{Exit, Failure};
use crate::screen::Screen;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let screen = Screen::new(&arguments.shared);
    match run(&arguments, &screen) {
        Ok(exit) => exit.into(),
        Err(failure) => failure.show(&screen).into(),
    }
}

fn run(arguments: &Arguments, screen: &Screen) -> Result<Exit, Failure> {
    let shared = &arguments.shared;
    match &arguments.command {
        Command::Init(init) => commands::init::run(init, screen),
        Command::Survey(survey) => commands::survey::run(&config::load(shared)?, survey, screen),
        Command::Build(build) => commands::build::run(&config::load(shared)?, build, screen),
        Command::Why(why) => commands::why::run(&config::load(shared)?, why, screen),
        Command::Check(check) => commands::check::run(&config::load(shared)?, check, screen),
        Command::Announce(announce) => commands::announce::run(&config::load(shared)?, announce, screen),
        Command::History(history) => commands::history::run(&config::load(shared)?, history, screen),
        Command::TestEngine(engine) => commands::test_engine::run(engine, screen),
        Command::Demo(demo) => commands::demo::run(demo, screen),
    }
}
