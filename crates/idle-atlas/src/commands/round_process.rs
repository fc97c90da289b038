//! A round of `watch`: `build --announce` or `announce` in a process of its own. So the memory of a build goes back to the
//! system, and whatever may end a build does not end the watch. Its documents are those that the commands print.

use std::io::Write;
use std::process::{Command, Output};

use atlas_io::watch::{Wake, run_to_end};
use atlas_store::model::StartedBy;
use serde_json::{Value, json};

use super::own_program;
use crate::config::{AS_READ, Settings};
use crate::exit::{Exit, Failure};
use crate::session::{STARTED_BY, Session};

/// The longest word for a kind of problem, in bytes.
const LONGEST_WHAT: usize = 16;

/// What became of a round.
pub struct RoundResult {
    pub exit: Exit,
    /// The document of the build; null if nothing was built.
    pub built: Value,
    /// The reports on engines.
    pub told: Value,
    pub problems: Vec<RoundProblem>,
}

/// A problem that was reported on standard error.
pub struct RoundProblem {
    /// What kind of problem it is, in a word.
    pub what: String,
    /// What happened.
    pub message: String,
}

/// Runs a round for this reason.
pub fn run(settings: &Settings, wake: Wake, by: StartedBy, session: &Session) -> Result<RoundResult, Failure> {
    let program = own_program()?;
    let mut text = tempfile::NamedTempFile::new()
        .map_err(|error| Failure::said(format!("cannot make a temporary file: {error}")))?;
    text.write_all(settings.text().as_bytes())
        .map_err(|error| Failure::said(format!("cannot write a temporary file: {error}")))?;
    let mut command = Command::new(program);
    command.env(AS_READ, text.path()).arg("--config").arg(&settings.path).args(["--json", "--color", "never"]);
    if session.screen.is_strict() {
        command.arg("--strict");
    }
    command.args(if wake == Wake::Announce { &["announce"][..] } else { &["build", "--announce"] });
    command.env(STARTED_BY, by.as_str());
    if session.clock.is_set() {
        command.env("SOURCE_DATE_EPOCH", session.now().as_second().to_string());
    }
    let output = run_to_end(&mut command, &session.stop)
        .map_err(|error| Failure::said(format!("cannot start another process: {error}")))?;
    Ok(result(&output, wake))
}

fn result(output: &Output, wake: Wake) -> RoundResult {
    let exit = output.status.code().map_or(Exit::NotDone, Exit::of_code);
    let problems = problems(&String::from_utf8_lossy(&output.stderr));
    let document: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
    let (built, told) = match wake {
        Wake::Announce => (Value::Null, document),
        _ => (document["build"].clone(), document["announce"].clone()),
    };
    let is_lost = built.is_null() && told.is_null() && exit != Exit::Interrupted;
    let built = if is_lost { json!({ "error": lost(output, &problems) }) } else { built };
    RoundResult { exit, built, told, problems }
}

/// What is said of a round that has no document.
fn lost(output: &Output, problems: &[RoundProblem]) -> String {
    match problems.iter().find(|problem| problem.what == "error") {
        Some(problem) => problem.message.clone(),
        None => format!("the process of the build ended with {}; it is tried again", output.status),
    }
}

/// The problems on standard error, each of which begins with a word or two and a colon. Its further lines belong to it.
fn problems(text: &str) -> Vec<RoundProblem> {
    let is_what = |what: &str| {
        let is_part = |letter: char| letter.is_ascii_lowercase() || "_. ".contains(letter);
        what.len() <= LONGEST_WHAT
            && what.starts_with(|letter: char| letter.is_ascii_lowercase())
            && what.chars().all(is_part)
    };
    let mut problems: Vec<RoundProblem> = Vec::new();
    for line in text.lines() {
        let begin = line.split_once(": ").filter(|(what, _)| is_what(what));
        match (begin, problems.last_mut()) {
            (Some((what, message)), _) => {
                problems.push(RoundProblem { what: what.to_owned(), message: message.to_owned() })
            }
            (None, Some(last)) => last.message += &format!(" {}", line.trim()),
            (None, None) => problems.push(RoundProblem { what: "problem".to_owned(), message: line.to_owned() }),
        }
    }
    problems
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn problems_are_read_line_by_line() {
        let found = problems("thread panicked\nerror: line 3\n  and 4\nwhen_built: “false”: it ended\n");
        let pairs: Vec<(&str, &str)> = found.iter().map(|one| (one.what.as_str(), one.message.as_str())).collect();
        let wanted = [("problem", "thread panicked"), ("error", "line 3 and 4"), ("when_built", "“false”: it ended")];
        assert_eq!(pairs, wanted);
    }
}
