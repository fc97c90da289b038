//! What the program prints as JSON, held against the schemas in docs/reference/json.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock};

use jsonschema::Validator;
use rstest::rstest;
use serde_json::Value;

use crate::support::{HTML, TestSite};

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference")
}

fn validator(path: &Path) -> Validator {
    let text = fs::read_to_string(path).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
    jsonschema::validator_for(&serde_json::from_str(&text).unwrap()).unwrap()
}

/// The schema of what a command prints, as far as it has one of its own.
fn schema_of(arguments: &[&str]) -> Option<&'static str> {
    let has = |option: &str| arguments.contains(&option);
    let option = |named: &[(&str, &'static str)], usual: &'static str| {
        Some(named.iter().find(|(option, _)| has(option)).map_or(usual, |(_, schema)| *schema))
    };
    // Several sites make an array of documents, each with its own.
    if arguments.iter().filter(|one| **one == "--config").count() > 1 {
        return None;
    }
    match *arguments.iter().find(|one| !one.starts_with('-'))? {
        "init" => Some("init"),
        "survey" => {
            option(&[("--list", "survey-list"), ("--html", "survey-html"), ("--accept", "survey-accept")], "survey")
        }
        "build" => option(
            &[("--dry-run", "build-dry-run"), ("--withdraw", "build-withdraw"), ("--announce", "build-announce")],
            "build",
        ),
        "why" if has("--structured-data") => None,
        "why" => option(&[("--fresh", "why-fresh")], "why"),
        "check" if has("--explain") || has("--redirects") => None,
        "check" => {
            option(&[("--page", "check-page"), ("--pages-from", "check-page"), ("--gone", "check-gone")], "check")
        }
        "announce" if has("--done") => None,
        "announce" => option(
            &[
                ("--dry-run", "announce-dry-run"),
                ("--key-file", "announce-key-file"),
                ("--rehearse", "announce-rehearse"),
                ("--by-hand", "announce-by-hand"),
            ],
            "announce",
        ),
        "history" if has("--entries") => None,
        "history" if has("--plot") => Some("history-plot"),
        "history" if arguments.iter().any(|one| one.parse::<u32>().is_ok()) && !has("--most") && !has("--since") => {
            Some("history-run")
        }
        "history" => Some("history"),
        "uptake" if has("--forget") => None,
        "uptake" => option(&[("--list", "uptake-list")], "uptake"),
        "report" => Some("report"),
        "config" => option(&[("check", "config-check"), ("show", "config-show")], "config-check"),
        "manual" => Some("manual"),
        _ => None,
    }
}

/// Panics if a document is not as its schema says.
pub fn hold(arguments: &[&str], document: &Value) {
    static KNOWN: OnceLock<Mutex<HashMap<&'static str, Validator>>> = OnceLock::new();
    let Some(name) = schema_of(arguments) else { return };
    let mut known = KNOWN.get_or_init(Mutex::default).lock().unwrap_or_else(|poisoned| poisoned.into_inner());
    let validator = known.entry(name).or_insert_with(|| validator(&folder().join("json").join(format!("{name}.json"))));
    // Before the first build, `why` asks the sources.
    if name == "why" && !validator.is_valid(document) {
        drop(known);
        return hold(&["why", "--fresh"], document);
    }
    let errors: Vec<String> =
        validator.iter_errors(document).map(|error| format!("{}: {error}", error.instance_path())).take(5).collect();
    assert!(errors.is_empty(), "{arguments:?} is not as docs/reference/json/{name}.json says:\n{}", errors.join("\n"));
}

/// Every configuration that is shipped is valid by the schema for editors, and a wrong key is not.
#[rstest]
#[case("crates/idle-atlas/sample/every-choice.toml", true)]
#[case("crates/idle-atlas/src/commands/demo.toml", true)]
fn shipped_configurations_are_valid(#[case] name: &str, #[case] whole: bool) {
    let validator = validator(&folder().join("idle-atlas.schema.json"));
    let text = fs::read_to_string(folder().join("../..").join(name)).unwrap();
    let text = if text.contains("[site]") {
        text
    } else {
        format!("[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n{text}")
    };
    let document: Value = toml::from_str(&text).unwrap();
    let errors: Vec<String> =
        validator.iter_errors(&document).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert_eq!(errors.is_empty(), whole, "{name}: {}", errors.join("\n"));
    let mut wrong = document;
    wrong["site"]["web_rot"] = "public".into();
    assert!(!validator.is_valid(&wrong));
}

#[test]
fn what_init_writes_is_valid() {
    let site = TestSite::sample();
    fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site.json(&["init", "public"]);
    let validator = validator(&folder().join("idle-atlas.schema.json"));
    let document: Value = toml::from_str(&site.read("idle-atlas.toml")).unwrap();
    assert!(validator.is_valid(&document));
}

/// A key that only other kinds of source take is an error for editors, too.
#[test]
fn keys_of_other_kinds_are_not_valid() {
    let validator = validator(&folder().join("idle-atlas.schema.json"));
    let with = |line: &str| -> Value {
        toml::from_str(&format!(
            "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n{HTML}{line}\n"
        ))
        .unwrap()
    };
    assert!(validator.is_valid(&with("drop_html = true")));
    assert!(!validator.is_valid(&with("query = \"select 1\"")));
}

/// The commands for editors, shells and packages.
#[test]
fn commands_for_editors_shells_and_packages() {
    let site = TestSite::new(&format!(
        "{HTML}[[engine]]\nname = \"a\"\nvia = \"indexnow\"\nendpoint = \"https://engine.example/x\"\nkey = \"4f1c9a3be8d24c0d\"\n"
    ));
    site.run(&["config", "check"]).says(0, &["idle-atlas.toml is valid", "html public", "Next: idle-atlas survey"]);
    let ran = site.run(&["config", "show"]);
    ran.says(0, &["[files]", "gzip", "# default", "key             = \"(hidden)\""]);
    assert!(!ran.out.contains("4f1c9a3be8d24c0d") && !ran.out.contains("reached_at"));
    site.run(&["config", "show", "--verbose"]).says(0, &["# reached_at: not set"]);
    // What is shown is a configuration, but for what is hidden.
    site.write("idle-atlas.toml", ran.out.replace("key             = \"(hidden)\"", ""));
    site.run(&["config", "check"]).says(0, &["is valid"]);
    assert_eq!(site.json(&["config", "show"])["tables"][0]["table"], "site");
    site.json(&["config", "check"]);
    let schema: Value = serde_json::from_str(&site.run(&["config", "schema"]).out).unwrap();
    assert_eq!(schema["title"], "idle-atlas.toml");
    site.reconfigure("web_root", "web_rot");
    site.run(&["config", "check"]).says(2, &["unknown key “web_rot”"]);
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        let script = site.run(&["completions", shell]);
        script.says(0, &["idle-atlas", "announce", "withdraw"]);
    }
    site.run(&["manual", "man"]).says(0, &["man pages"]);
    assert!(site.read("man/idle-atlas-build.1").contains("withdraw"));
    assert!(site.read("man/idle-atlas.toml.5").contains("urls_per_file"));
    assert!(site.json(&["manual", "man"])["pages"].as_array().unwrap().len() > 15);
}

/// What `config show` prints of a site that uses every setting is a configuration that builds the same files.
#[test]
fn the_configuration_as_shown_is_one() {
    let site = TestSite::sample();
    site.build();
    let before = site.outputs();
    let ran = site.run(&["config", "show"]);
    ran.says(0, &["[[archive]]", "# default"]);
    site.write("idle-atlas.toml", &ran.out);
    site.run(&["config", "check"]).says(0, &["is valid"]);
    site.build();
    assert!(site.outputs() == before, "the files are others than before");
}

/// The completions of bash complete: commands, options and their values.
#[cfg(unix)]
#[rstest]
#[case("idle-atlas su", "survey")]
#[case("idle-atlas build --dr", "--dry-run")]
#[case("idle-atlas config sh", "show")]
#[cfg_attr(feature = "test-engine", case("idle-atlas test-engine --li", "--listen"))]
#[case("idle-atlas completions po", "powershell")]
fn bash_completes(#[case] line: &str, #[case] wanted: &str) {
    let site = TestSite::new("");
    site.write("completions", site.run(&["completions", "bash"]).out);
    let words: Vec<&str> = line.split(' ').collect();
    let script = format!(
        ". ./completions; COMP_WORDS=({}); COMP_CWORD={}; _idle__atlas idle-atlas '{}' '{}'; printf '%s\\n' \"${{COMPREPLY[@]}}\"",
        line,
        words.len() - 1,
        words[words.len() - 1],
        words[words.len() - 2]
    );
    let output = std::process::Command::new("bash").args(["-c", &script]).current_dir(site.path("")).output().unwrap();
    let replies = String::from_utf8(output.stdout).unwrap();
    assert!(
        replies.lines().any(|reply| reply == wanted),
        "{line}: {replies}{}",
        String::from_utf8_lossy(&output.stderr)
    );
}

/// What only its owner may know is in no output, wherever it stands in the configuration.
#[test]
fn secrets_are_nowhere() {
    let site = TestSite::new(&format!(
        "{HTML}[[engine]]\nname = \"a\"\nvia = \"http-call\"\nendpoint = \"https://engine.example/x?token=s3cret-one&u={{url}}\"\nbody = \"{{url}} s3cret-two\"\n[engine.headers]\nAuthorization = \"Bearer s3cret-three\"\nX-Plain = \"${{FROM_OUTSIDE}}\"\n"
    ));
    for arguments in [&["config", "show"][..], &["config", "show", "--verbose"], &["config", "show", "--json"]] {
        let output = site.command(arguments).env("FROM_OUTSIDE", "s3cret-four").output().unwrap();
        let out = String::from_utf8(output.stdout).unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        assert!(!out.contains("s3cret"), "{out}");
        assert!(out.contains("${FROM_OUTSIDE}") && out.contains("hidden"), "{out}");
    }
}

/// For several sites, each is checked, and the gravest exit code counts.
#[test]
fn several_configurations_are_checked() {
    let site = TestSite::new(HTML);
    site.write(
        "sites/a/idle-atlas.toml",
        "[site]\nurl = \"https://a.example/\"\nweb_root = \".\"\n[[source]]\nfrom = \"html\"\nfolder = \".\"\n",
    );
    site.write("sites/b/idle-atlas.toml", "[site]\nurl = \"https://b.example/\"\nweb_rot = \".\"\n");
    let ran = site.run(&["--config", "sites", "config", "check"]);
    ran.says(2, &["sites/a/idle-atlas.toml is valid", "unknown key “web_rot”"]);
}
