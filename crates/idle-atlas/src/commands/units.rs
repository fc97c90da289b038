//! `watch --unit`: units and table lines that run `watch`, ready to be installed.

use std::fs;
use std::path::{Path, PathBuf};

use jiff::SignedDuration;
use serde_json::json;

use super::own_program;
use crate::args::{Shared, UnitKind};
use crate::config;
use crate::exit::{Exit, Failure};
use crate::session::Session;

/// How often a timer builds, unless the configuration says otherwise.
const EVERY: SignedDuration = SignedDuration::from_mins(15);

/// A file to be installed.
struct UnitFile {
    name: String,
    text: String,
}

pub fn run(
    kind: UnitKind,
    into: Option<&Path>,
    paths: &[PathBuf],
    shared: &Shared,
    session: &Session,
) -> Result<Exit, Failure> {
    let files = files(kind, paths)?;
    let Some(folder) = into else {
        let documents: Vec<_> = files.iter().map(|file| json!({ "name": file.name, "text": file.text })).collect();
        let text = || files.iter().map(|file| file.text.as_str()).collect::<Vec<_>>().join("\n");
        // A unit is what was asked for, even where nothing else is to be printed.
        if shared.json {
            session.screen.show(&documents, text)?
        } else {
            session.screen.print(&text())?
        }
        return Ok(Exit::Done);
    };
    for file in &files {
        let path = folder.join(&file.name);
        let failed = |error| Failure::said(format!("cannot write {}: {error}", path.display()));
        fs::write(&path, &file.text).map_err(failed)?;
        session.screen.say(&format!("Wrote {}\n", path.display()))?;
    }
    Ok(Exit::Done)
}

fn files(kind: UnitKind, paths: &[PathBuf]) -> Result<Vec<UnitFile>, Failure> {
    let program = own_program()?;
    let whole = |path: &PathBuf| {
        path.canonicalize().map_err(|error| Failure::said(format!("cannot read {}: {error}", path.display())))
    };
    let paths = paths.iter().map(whole).collect::<Result<Vec<PathBuf>, Failure>>()?;
    let settings = paths.iter().map(|path| config::load_from(path)).collect::<Result<Vec<_>, Failure>>()?;
    let sites: Vec<&str> = settings.iter().map(|settings| settings.site.root().as_str()).collect();
    let name = match &settings[..] {
        [one] => format!(
            "idle-atlas-{}",
            one.site.root().host().replace(|letter: char| !letter.is_ascii_alphanumeric(), "-")
        ),
        _ => "idle-atlas".to_owned(),
    };
    let every = settings.iter().filter_map(|settings| settings.watching.every).min().unwrap_or(EVERY);
    let folder = paths.first().and_then(|path| path.parent()).unwrap_or(Path::new("/"));
    let unit = Unit { name, sites: sites.join(", "), program, paths: paths.clone(), folder: folder.to_owned(), every };
    Ok(match kind {
        UnitKind::Systemd => vec![unit.service(true)],
        UnitKind::Timer => vec![unit.service(false), unit.timer()],
        UnitKind::Cron => vec![unit.cron()],
    })
}

/// What units run.
struct Unit {
    name: String,
    sites: String,
    program: PathBuf,
    paths: Vec<PathBuf>,
    folder: PathBuf,
    every: SignedDuration,
}

impl Unit {
    /// The command, with each argument quoted as `quote` does it.
    fn command(&self, quote: fn(&str) -> String, rest: &str) -> String {
        let configs = self.paths.iter().map(|path| format!(" --config {}", quote(&path.to_string_lossy())));
        format!("{}{} {rest}", quote(&self.program.to_string_lossy()), configs.collect::<String>())
    }

    /// A service that watches, or that does one round for a timer.
    fn service(&self, watches: bool) -> UnitFile {
        let Self { name, sites, folder, .. } = self;
        let file = format!("{name}.service");
        let install = match watches {
            true => format!("#   systemctl enable --now {file}\n"),
            false => String::new(),
        };
        let rest = if watches { "watch --log json" } else { "watch --once --log json" };
        let command = self.command(for_systemd, rest);
        let folder = folder.to_string_lossy().replace('%', "%%");
        let (kind, again, wanted) = match watches {
            true => ("exec", "Restart=on-failure\nRestartSec=60\n", "\n[Install]\nWantedBy=multi-user.target\n"),
            false => ("oneshot", "", ""),
        };
        let text = format!(
            "# Save as /etc/systemd/system/{file}\n{install}
[Unit]
Description=Idle Atlas: sitemaps of {}
Wants=network-online.target
After=network-online.target

[Service]
Type={kind}
WorkingDirectory={folder}
ExecStart={command}
# What could not be read or announced is in the log, and is not a failure of the unit.
SuccessExitStatus=1
{again}NoNewPrivileges=yes
# The user that owns the web root and the folder of the configuration:
# User=www-data
{wanted}",
            sites.replace('%', "%%")
        );
        UnitFile { name: file, text }
    }

    fn timer(&self) -> UnitFile {
        let Self { name, sites, .. } = self;
        let file = format!("{name}.timer");
        let minutes = self.every.as_mins();
        let text = format!(
            "# Save as /etc/systemd/system/{file}, beside the service, then:
#   systemctl enable --now {file}

[Unit]
Description=Idle Atlas: sitemaps of {}, at intervals

[Timer]
OnBootSec=2min
OnUnitActiveSec={minutes}min
RandomizedDelaySec=30

[Install]
WantedBy=timers.target
",
            sites.replace('%', "%%")
        );
        UnitFile { name: file, text }
    }

    fn cron(&self) -> UnitFile {
        let minutes = self.every.as_mins().max(1);
        let when = match (minutes, minutes / 60) {
            (1..=30, _) => format!("*/{minutes} * * * *"),
            (31..120, _) => "17 * * * *".to_owned(),
            (_, hours @ 2..=12) => format!("17 */{hours} * * *"),
            _ => "17 4 * * *".to_owned(),
        };
        let command = self.command(for_shell, "watch --once --quiet").replace('%', "\\%");
        let folder = for_shell(&self.folder.to_string_lossy()).replace('%', "\\%");
        let text = format!(
            "# Add with: crontab -e. Problems are mailed as usual.\n{when}  cd {folder} && {{ {command}; [ $? -le 1 ]; }}\n"
        );
        UnitFile { name: self.name.clone(), text }
    }
}

/// An argument of a command in a unit (systemd.service, “Command lines”).
fn for_systemd(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
    if escaped == text && !text.contains(char::is_whitespace) { escaped } else { format!("\"{escaped}\"") }
}

/// An argument of a command in a shell (POSIX, “Single-Quotes”).
fn for_shell(text: &str) -> String {
    let is_plain = |letter: char| letter.is_ascii_alphanumeric() || "/._-".contains(letter);
    if text.chars().all(is_plain) { text.to_owned() } else { format!("'{}'", text.replace('\'', "'\\''")) }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn unit(minutes: i64) -> Unit {
        Unit {
            name: "idle-atlas".into(),
            sites: "https://www.marrowvale.example/100%/".into(),
            program: "/usr/local/bin/idle-atlas".into(),
            paths: vec!["/srv/site one/idle-atlas.toml".into(), "/srv/two/idle-atlas.toml".into()],
            folder: "/srv/site one".into(),
            every: SignedDuration::from_mins(minutes),
        }
    }

    #[rstest]
    #[case(15, "*/15 * * * *")]
    #[case(45, "17 * * * *")]
    #[case(60, "17 * * * *")]
    #[case(360, "17 */6 * * *")]
    #[case(1_440, "17 4 * * *")]
    fn intervals_become_lines_of_a_crontab(#[case] minutes: i64, #[case] wanted: &str) {
        let text = unit(minutes).cron().text;
        assert!(text.lines().any(|line| line.starts_with(&format!("{wanted}  cd '/srv/site one' && "))), "{text}");
        assert!(
            text.contains("--config '/srv/site one/idle-atlas.toml' --config /srv/two/idle-atlas.toml watch --once")
        );
    }

    #[test]
    fn services_name_every_configuration() {
        let text = unit(20).service(true).text;
        let command = "ExecStart=/usr/local/bin/idle-atlas --config \"/srv/site one/idle-atlas.toml\" --config /srv/two/idle-atlas.toml watch --log json\n";
        assert!(text.contains(command) && text.contains("100%%") && text.contains("Restart=on-failure"), "{text}");
        let text = unit(20).service(false).text;
        assert!(text.contains("Type=oneshot") && !text.contains("[Install]"), "{text}");
        assert!(unit(20).timer().text.contains("OnUnitActiveSec=20min\n"));
    }

    #[rstest]
    #[case("/srv/site", "/srv/site", "/srv/site")]
    #[case("a b", "\"a b\"", "'a b'")]
    #[case("50%$HOME\"", "\"50%%$$HOME\\\"\"", "'50%$HOME\"'")]
    #[case("it's", "it's", "'it'\\''s'")]
    fn arguments_are_quoted(#[case] text: &str, #[case] systemd: &str, #[case] shell: &str) {
        assert_eq!((for_systemd(text), for_shell(text)), (systemd.to_owned(), shell.to_owned()));
    }
}
