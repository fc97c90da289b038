//! The pages of the reference in `docs/reference/`, made from the code. A test fails if one of them is stale; with
//! `WRITE_REFERENCE=1` it writes them.

use std::fmt::Write as _;
use std::fs;
use std::path::PathBuf;

use atlas_core::check::Report;
use atlas_core::choose::Reason;
use atlas_core::report::Notice;
use atlas_io::engines::EngineReport;
use atlas_store::build::Withdrawn;
use atlas_store::diagnostics::Listed;
use atlas_store::report::{Built, Guard, Preview, Survey};
use atlas_store::uptake::{Overview, PageUptake};
use clap::{Arg, Command, CommandFactory};
use rstest::rstest;
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema, SchemaGenerator};

use crate::args::Arguments;
use crate::config::reference::{schema, tables};
use crate::view;

/// What stands below the title of each page.
const MADE: &str = "<!-- Made from the code by its tests; WRITE_REFERENCE=1 cargo test writes it anew. -->";

/// Text in a cell of a table.
fn cell(text: &str) -> String {
    text.replace('|', "\\|").replace('\n', " ").trim().to_owned()
}

/// Every table and key of the configuration.
fn configuration() -> String {
    let mut out = format!(
        "# Every key of idle-atlas.toml\n\n{MADE}\n\nPaths are relative to the file. `${{NAME}}` reads the environment. Tables in double brackets may be repeated. `idle-atlas config\nshow` prints each key as it stands, `idle-atlas config schema` a JSON Schema for editors; see [Setting it up](../guide/README.md).\n"
    );
    for table in tables() {
        let _ = write!(out, "\n## {}\n\n{}\n\n", table.heading(), table.meaning);
        out += "| key | takes | without it | meaning |\n|---|---|---|---|\n";
        for key in &table.keys {
            let words = key.words.iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", ");
            let takes = if words.is_empty() { key.takes.clone() } else { words };
            let without = match &key.default {
                Some(default) => format!("`{}`", crate::config::reference::in_toml(default)),
                None if key.is_needed => "an error".to_owned(),
                None => "–".to_owned(),
            };
            let kinds =
                if key.is_for_all_or_says_so() { String::new() } else { format!(" Only {}.", key.kinds.join(", ")) };
            let example = key.example.as_ref().map_or(String::new(), |example| format!(" `{example}`"));
            let _ = writeln!(
                out,
                "| `{}` | {} | {} | {}{}{} |",
                key.name,
                cell(&takes),
                cell(&without),
                key.meaning.replace('|', "\\|"),
                kinds,
                example.replace('|', "\\|")
            );
        }
    }
    out
}

/// Every command and option.
fn commands() -> String {
    let mut command = Arguments::command();
    command.build();
    let mut out = format!(
        "# Every command and option\n\n{MADE}\n\n`-h` shows the options that are used most, `--help` all of them. `idle-atlas manual FOLDER` writes the same as man pages.\n\n## Options of every command\n\n{}",
        options(&command, |argument| argument.is_global_set())
    );
    for sub in command.get_subcommands() {
        section(&mut out, sub, "idle-atlas");
    }
    out
}

fn section(out: &mut String, command: &Command, above: &str) {
    let name = format!("{above} {}", command.get_name());
    let subs: Vec<&Command> = command.get_subcommands().filter(|sub| sub.get_name() != "help").collect();
    let _ = write!(out, "\n## {name}\n\n{}.\n\n", command.get_about().map(ToString::to_string).unwrap_or_default());
    let usage = command.clone().render_usage().to_string();
    let _ = write!(out, "```text\n{}\n```\n\n", usage.trim_start_matches("Usage: "));
    *out += &options(command, |argument| !argument.is_global_set());
    if let Some(example) = command.get_after_long_help().or_else(|| command.get_after_help()) {
        let _ = write!(out, "\n{example}\n");
    }
    subs.into_iter().for_each(|sub| section(out, sub, &name));
}

fn options(command: &Command, wanted: impl Fn(&Arg) -> bool) -> String {
    let mut rows = String::new();
    for argument in command.get_arguments() {
        if !wanted(argument) || ["help", "version"].contains(&argument.get_id().as_str()) {
            continue;
        }
        let values: Vec<&str> = argument.get_value_names().into_iter().flatten().map(|name| name.as_str()).collect();
        let values =
            if argument.get_action().takes_values() { format!(" {}", values.join(" ")) } else { String::new() };
        let name = match argument.get_long() {
            Some(long) => format!("--{long}{values}"),
            None => values.trim().to_owned(),
        };
        let help =
            argument.get_long_help().or_else(|| argument.get_help()).map(ToString::to_string).unwrap_or_default();
        let words: Vec<String> = (argument.get_possible_values().iter())
            .filter(|_| argument.get_action().takes_values())
            .map(|value| format!("`{}`", value.get_name()))
            .collect();
        let words = if words.is_empty() { String::new() } else { format!(" One of {}.", words.join(", ")) };
        let default: Vec<String> = (argument.get_default_values().iter())
            .filter(|_| argument.get_action().takes_values())
            .map(|value| value.to_string_lossy().into_owned())
            .collect();
        let default = if default.is_empty() { String::new() } else { format!(" Without it: {}.", default.join(" ")) };
        let help = help.replace(":\n- ", ": ").replace("\n- ", "; ").replace("\n\n", ". ").replace("..", ".");
        let help = help.trim_end_matches('.');
        let _ = writeln!(rows, "| `{}` | {}.{}{} |", name.replace('|', "\\|"), cell(help), words, default);
    }
    if rows.is_empty() { rows } else { format!("| option | |\n|---|---|\n{rows}") }
}

/// Every guard, reason and remark.
fn codes() -> String {
    let mut out = format!(
        "# Every guard, reason and remark\n\n{MADE}\n\n[Reports](../reports.md) says what each kind of code is for, and [Findings](../findings.md) lists what `check` finds.\n\n## Guards\n\nWhat holds a build back. `build --allow GUARD` lets it pass.\n\n| guard | holds a build back if | can be allowed |\n|---|---|---|\n"
    );
    for guard in Guard::ALL {
        let option = guard.option().map_or("no".to_owned(), |word| format!("`--allow {word}`"));
        let _ = writeln!(out, "| `{}` | {} | {option} |", guard.code(), guard.words());
    }
    out += "\n## Reasons\n\nWhy an entry is left out, in the order in which the reasons are checked. `why URL --fresh` shows each step, and `survey --list --reason\nCODE` lists the entries.\n\n| reason | means | to list it after all |\n|---|---|---|\n";
    for reason in Reason::ALL {
        let _ = writeln!(out, "| `{}` | {} | {} |", reason.code(), reason.words(), reason.advice());
    }
    out += "\n## Remarks\n\nWhat deserves a look but holds nothing back. `survey --accept CODE` stops showing one.\n\n| remark | means | what to do |\n|---|---|---|\n";
    for notice in Notice::ALL {
        let _ = writeln!(out, "| `{}` | {} | {} |", notice.code(), notice.words().1, notice.advice());
    }
    out
}

/// A document that a command prints with `--json`: its name, the command, and its schema.
type PrintedDocument = (&'static str, &'static str, fn(&mut SchemaGenerator) -> Schema);

/// All documents.
const DOCUMENTS: [PrintedDocument; 28] = [
    ("init", "init", SchemaGenerator::root_schema_for::<view::init::SiteFacts>),
    ("survey", "survey", SchemaGenerator::root_schema_for::<Survey>),
    ("survey-list", "survey --list", SchemaGenerator::root_schema_for::<Vec<Listed>>),
    ("survey-html", "survey --html FILE", SchemaGenerator::root_schema_for::<view::owner::OwnerPage>),
    ("survey-accept", "survey --accept CODE", SchemaGenerator::root_schema_for::<view::survey::Accepting>),
    ("build", "build", SchemaGenerator::root_schema_for::<Built>),
    ("build-dry-run", "build --dry-run, and a build that is held back", SchemaGenerator::root_schema_for::<Preview>),
    ("build-withdraw", "build --withdraw", SchemaGenerator::root_schema_for::<Withdrawn>),
    ("build-announce", "build --announce", SchemaGenerator::root_schema_for::<BuiltAndTold>),
    ("why", "why URL", SchemaGenerator::root_schema_for::<view::recorded::RecordedReport>),
    (
        "why-fresh",
        "why URL --fresh, and before the first build",
        SchemaGenerator::root_schema_for::<view::why::UrlReport>,
    ),
    ("check", "check, also with --pages and --content", SchemaGenerator::root_schema_for::<Report>),
    ("check-page", "check --page URL", SchemaGenerator::root_schema_for::<Vec<view::card::PageCard>>),
    ("check-gone", "check --gone", SchemaGenerator::root_schema_for::<view::gone::GoneReport>),
    ("announce", "announce", SchemaGenerator::root_schema_for::<Vec<EngineReport>>),
    ("announce-dry-run", "announce --dry-run", SchemaGenerator::root_schema_for::<Vec<view::announce::AnnouncePlan>>),
    ("announce-key-file", "announce --key-file", SchemaGenerator::root_schema_for::<Vec<view::announce::KeyFile>>),
    ("announce-rehearse", "announce --rehearse", SchemaGenerator::root_schema_for::<view::rehearsal::Rehearsal>),
    ("announce-by-hand", "announce --by-hand NUMBER", SchemaGenerator::root_schema_for::<view::by_hand::ByHandList>),
    ("history", "history", SchemaGenerator::root_schema_for::<view::history::Past>),
    ("history-run", "history RUN", SchemaGenerator::root_schema_for::<view::history::PastRun>),
    ("history-plot", "history --plot", SchemaGenerator::root_schema_for::<view::plot::Timeline>),
    ("uptake", "uptake", SchemaGenerator::root_schema_for::<Overview>),
    ("uptake-list", "uptake --list", SchemaGenerator::root_schema_for::<Vec<PageUptake>>),
    ("report", "report", SchemaGenerator::root_schema_for::<view::report::SiteReport>),
    ("config-check", "config check", SchemaGenerator::root_schema_for::<view::configuration::CheckedConfiguration>),
    ("config-show", "config show", SchemaGenerator::root_schema_for::<view::configuration::ShownConfiguration>),
    ("manual", "manual FOLDER", SchemaGenerator::root_schema_for::<view::configuration::WrittenManual>),
];

/// What `build --announce` prints: the documents of both.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "only its schema is used")]
struct BuiltAndTold {
    /// That of the build, or that of its failure.
    build: serde_json::Value,
    /// That of the announcement.
    announce: serde_json::Value,
}

/// The schema of a document: nothing may be in it that the schema does not name.
fn document(made: fn(&mut SchemaGenerator) -> Schema) -> String {
    let mut generator = SchemaSettings::draft2020_12().for_serialize().into_generator();
    let mut schema = made(&mut generator).to_value();
    close(&mut schema);
    format!("{schema:#}\n")
}

fn close(schema: &mut serde_json::Value) {
    match schema {
        serde_json::Value::Object(object) => {
            let is_open =
                ["allOf", "anyOf", "oneOf", "$ref", "additionalProperties"].iter().any(|key| object.contains_key(*key));
            if object.contains_key("properties") && object.get("type").is_some_and(|kind| kind == "object") && !is_open
            {
                object.insert("additionalProperties".to_owned(), serde_json::json!(false));
            }
            if let Some(text) = object.get("description").and_then(|text| text.as_str()) {
                // Instants are numbers inside, and texts outside.
                let text = text.replace(", in seconds since 1970", "");
                let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
                object.insert("description".to_owned(), serde_json::json!(text));
            }
            if object.get("format").is_some_and(|format| format.as_str().is_some_and(|name| name.contains("int"))) {
                object.shift_remove("format");
            }
            object.values_mut().for_each(close);
        }
        serde_json::Value::Array(items) => items.iter_mut().for_each(close),
        _ => {}
    }
}

/// The page about JSON.
fn json_page() -> String {
    let mut out = format!(
        "# The JSON of every command\n\n{MADE}\n\nWith `--json`, a command prints one document on standard output; `watch --log json` prints one object per line. For each there is a JSON\nSchema (draft 2020-12), which the tests hold against everything that they let the program print. Until version 1.0 keys may be added,\nrenamed or taken out from one minor version to the next, and the [changelog](../../CHANGELOG.md) names them; after that, only added.\n\nInstants are in RFC 3339, in UTC. A command that fails prints `{{\"error\": \"…\", \"exit\": 2}}`. For several sites, the documents are in an array of\nobjects with `config`, `site`, `exit` and `result`.\n\n| command | schema |\n|---|---|\n"
    );
    for (name, command, _) in DOCUMENTS {
        let _ = writeln!(out, "| `{command}` | [{name}.json](json/{name}.json) |");
    }
    out
}

/// The schema of the configuration, for editors.
fn configuration_schema() -> String {
    format!("{:#}\n", schema())
}

#[rstest]
#[case("configuration.md", configuration)]
#[case("commands.md", commands)]
#[case("codes.md", codes)]
#[case("json.md", json_page)]
#[case("idle-atlas.schema.json", configuration_schema)]
fn the_reference_is_as_the_code(#[case] name: &str, #[case] made: fn() -> String) {
    is_as_the_code(name, &made());
}

#[test]
fn the_reference_of_json_is_as_the_code() {
    for (name, _, made) in DOCUMENTS {
        is_as_the_code(&format!("json/{name}.json"), &document(made));
    }
}

fn is_as_the_code(name: &str, made: &str) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference").join(name);
    if std::env::var_os("WRITE_REFERENCE").is_some() {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, made).unwrap();
    }
    let written = fs::read_to_string(&path).unwrap_or_default();
    assert!(
        written == made,
        "docs/reference/{name} is stale; run: WRITE_REFERENCE=1 cargo test -p idle-atlas reference"
    );
}
