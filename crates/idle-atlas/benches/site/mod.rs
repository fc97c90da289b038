//! Sites in temporary folders, for benchmarks.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

/// A site in a temporary folder, and variables for the program.
pub struct BenchSite(pub tempfile::TempDir, pub Vec<(&'static str, String)>);

impl BenchSite {
    /// A site with this source, and whatever else the configuration says.
    pub fn new(url: &str, source: &str, more: &str) -> Self {
        let folder = tempfile::tempdir().expect("a temporary folder");
        fs::create_dir(folder.path().join("public")).expect("a web root");
        let config = format!("[site]\nurl = \"{url}\"\nweb_root = \"public\"\n{more}\n[[source]]\n{source}\n");
        fs::write(folder.path().join("idle-atlas.toml"), config).expect("a configuration");
        Self(folder, Vec::new())
    }

    /// The wall time of a command, and its peak memory in KiB if `/usr/bin/time` is installed.
    pub fn run(&self, arguments: &[&str]) -> (Duration, u64) {
        let mut command = match Path::new("/usr/bin/time").exists() {
            true => {
                let mut command = Command::new("/usr/bin/time");
                command.args(["-f", "%M", env!("CARGO_BIN_EXE_idle-atlas")]);
                command
            }
            false => Command::new(env!("CARGO_BIN_EXE_idle-atlas")),
        };
        let begun = Instant::now();
        command.args(arguments).arg("--quiet").current_dir(self.0.path()).envs(self.1.clone());
        let output = command.output().expect("it runs");
        let wall = begun.elapsed();
        let errors = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.code().is_some_and(|code| code <= 1), "{errors}");
        (wall, errors.lines().last().and_then(|line| line.trim().parse().ok()).unwrap_or(0))
    }
}
