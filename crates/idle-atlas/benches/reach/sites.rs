//! Many small sites in which nothing changed, beside the same one after the other.

use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::{median, table, tell};

/// The pages of each site.
const PAGES: usize = 200;

pub fn run(sites: usize, runs: usize) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let rows = table(PAGES);
    for nth in 0..sites {
        let site = folder.path().join(format!("sites/{nth}"));
        fs::create_dir_all(site.join("public")).expect("a web root");
        fs::write(site.join("pages.csv"), &rows).expect("a table");
        let config = format!(
            "[site]\nurl = \"https://halt-{nth}.marrowvale.example/\"\nweb_root = \"public\"\n[[source]]\nfrom = \"table\"\nfile = \"pages.csv\"\n[robots]\nfile = \"public/robots.txt\"\ncreate = true\n"
        );
        fs::write(site.join("idle-atlas.toml"), config).expect("a configuration");
    }
    let build = |arguments: &[String]| -> Duration {
        let begun = Instant::now();
        let mut command = Command::new(env!("CARGO_BIN_EXE_idle-atlas"));
        let status = command.args(arguments).args(["build", "--quiet"]).current_dir(folder.path()).status();
        assert!(status.expect("it runs").success());
        begun.elapsed()
    };
    let each = ["--each".to_owned(), "sites/*/idle-atlas.toml".to_owned()];
    build(&each);
    build(&each);
    let (mut together, mut apart) = (Vec::new(), Vec::new());
    for _ in 0..runs {
        together.push(build(&each));
        let one = |nth: usize| build(&["--config".to_owned(), format!("sites/{nth}/idle-atlas.toml")]);
        apart.push((0..sites).map(one).sum());
    }
    println!("{sites} sites of {PAGES} pages, nothing changed, medians of {runs}");
    let apart = median(apart);
    tell("a program for each, one after the other", apart, None, "");
    tell("build --each", median(together), Some(apart), "");
}
