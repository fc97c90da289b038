//! What can go wrong with the machine: a full disk, a lost, newer or damaged ledger, a signal in the middle.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::process::Command;
use std::thread::sleep;
use std::time::Duration;

use rstest::rstest;

use crate::support::{NOON, Ran, TestSite};

const CONFIG: &str =
    "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nurls_per_file = 300\ngzip = \"beside\"\n";

fn table(site: &TestSite, rows: usize, minute: usize) {
    let mut table = "url,modified,title\n".to_owned();
    for row in 0..rows {
        let minute = if row % 7 == 0 { minute } else { 0 };
        writeln!(table, "/halts/{row}/,2026-11-01T08:{minute:02}:00Z,Halt {row}").unwrap();
    }
    site.write("t.csv", table);
}

fn sitemaps(site: &TestSite) -> BTreeMap<String, Vec<u8>> {
    site.outputs().into_iter().filter(|(name, _)| name.contains(".xml")).collect()
}

/// Runs a build that may write only this many blocks of 512 bytes per file. Beyond that, writing fails as on a full
/// disk.
fn build_within(site: &TestSite, blocks: u32) -> Ran {
    let program = site.command(&["build", "--quiet"]);
    let line = format!("trap '' XFSZ; ulimit -f {blocks}; exec \"$0\" \"$@\"");
    let mut command = Command::new("bash");
    command.args(["-c", &line]).arg(program.get_program()).args(program.get_args());
    command.current_dir(program.get_current_dir().unwrap());
    command.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
    Ran::of(command.output().unwrap())
}

/// Runs a build as a user who may not write everything: as nobody, if the tests are run by root, who may.
#[cfg(unix)]
fn build_as_nobody(site: &TestSite) -> Ran {
    use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
    use std::os::unix::process::CommandExt;

    const NOBODY: u32 = 65_534;
    let usual = site.command(&["build", "--quiet"]);
    // The user nobody may not be able to enter the folder of the program.
    let program = site.path("program");
    fs::copy(usual.get_program(), &program).unwrap();
    let folder = site.path("");
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o755)).unwrap();
    let mut command = Command::new(&program);
    command.args(usual.get_args()).current_dir(&folder).env("SOURCE_DATE_EPOCH", NOON.to_string());
    if fs::metadata(&folder).unwrap().uid() == 0 {
        for name in ["public", ".idle-atlas", ".idle-atlas/ledger.db", ".idle-atlas/lock"] {
            chown(site.path(name), Some(NOBODY), None).unwrap();
        }
        command.uid(NOBODY);
    }
    Ran::of(command.output().unwrap())
}

#[cfg(unix)]
#[rstest]
#[case::web_root("public", "cannot write into public: permission denied; this user has no permission for that")]
#[case::ledger(".idle-atlas", "this user may not write it: give it the folder .idle-atlas")]
fn a_read_only_folder_leaves_the_old_files(#[case] folder: &str, #[case] told: &str) {
    use std::os::unix::fs::PermissionsExt;

    let site = TestSite::new(CONFIG);
    table(&site, 700, 0);
    site.build();
    table(&site, 720, 1);
    let before = site.outputs();
    let allow = |mode| fs::set_permissions(site.path(folder), fs::Permissions::from_mode(mode)).unwrap();
    allow(0o555);
    let ran = build_as_nobody(&site);
    allow(0o755);
    ran.says(2, &[told]);
    assert_eq!(site.outputs(), before);
    site.run(&["build"]).says(0, &["720 entries"]);
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
}

#[test]
fn a_disk_that_fills_up_leaves_a_whole_site() {
    let mut site = TestSite::new(CONFIG);
    table(&site, 3000, 0);
    site.build();
    let mut failed = 0;
    for (round, blocks) in [1, 2, 4, 8, 12, 16, 24, 40, 60, 90, 140, 220, 400, 800].into_iter().enumerate() {
        site.at(NOON + 60 * (round as i64 + 1));
        table(&site, 3000 + round * 5, round + 1);
        let before = site.paths();
        let ran = build_within(&site, blocks);
        if ran.code != 0 {
            failed += 1;
            ran.says(2, &["error:"]);
            // Everything listed before is still there, in complete files: reading them would panic otherwise.
            assert!(before.is_subset(&site.paths()), "with {blocks} blocks");
        }
        site.run(&["build"]).says(0, &["sitemap file"]);
        assert_eq!(site.paths().len(), 3000 + round * 5);
        site.run(&["check"]).says(0, &["Nothing is wrong"]);
    }
    assert!(failed >= 5, "only {failed} builds ran out of room");
}

/// Changes something about the ledger, and checks what a build says.
#[rstest]
#[case::another_format(|site: &TestSite| {
    let ledger = rusqlite::Connection::open(site.path(".idle-atlas/ledger.db")).unwrap();
    ledger.pragma_update(None, "user_version", 99).unwrap();
}, "another version of Idle Atlas (format 99,")]
#[case::not_a_ledger(|site: &TestSite| site.write(".idle-atlas/ledger.db", vec![b'x'; 9000]), "move that folder away")]
#[case::cut_short(|site: &TestSite| {
    let bytes = fs::read(site.path(".idle-atlas/ledger.db")).unwrap();
    site.write(".idle-atlas/ledger.db", &bytes[..bytes.len() / 2]);
}, "move that folder away")]
#[case::a_file_in_its_place(|site: &TestSite| {
    fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
    site.write(".idle-atlas", "not a folder");
}, "cannot make .idle-atlas")]
fn a_ledger_that_cannot_be_used_leaves_the_old_files(#[case] harm: fn(&TestSite), #[case] wanted: &str) {
    let site = TestSite::new(CONFIG);
    table(&site, 2000, 0);
    site.build();
    let before = sitemaps(&site);
    harm(&site);
    table(&site, 2000, 5);
    site.run(&["build"]).says(2, &[wanted]);
    assert!(sitemaps(&site) == before);
    // What the message says to do helps.
    let folder = site.path(".idle-atlas");
    if folder.is_dir() {
        fs::remove_dir_all(folder).unwrap()
    } else {
        fs::remove_file(folder).unwrap()
    }
    site.run(&["build"]).says(0, &["2,000 entries were learnt from"]);
}

#[test]
fn partial_damage_of_the_ledger_is_reported() {
    let site = TestSite::new(CONFIG);
    table(&site, 3000, 0);
    site.build();
    let path = site.path(".idle-atlas/ledger.db");
    let whole = fs::read(&path).unwrap();
    let before = sitemaps(&site);
    let mut refused = 0;
    for at in (20_000..whole.len()).step_by(whole.len() / 40) {
        let mut bytes = whole.clone();
        bytes[at..(at + 64).min(whole.len())].fill(0xa5);
        fs::write(&path, &bytes).unwrap();
        table(&site, 3000, 9);
        let ran = site.run(&["build"]);
        // Damage in a part that nobody reads is harmless; other damage is reported, or repaired from the sources.
        if ran.code == 2 {
            refused += 1;
            ran.says(2, &["ledger"]);
            assert!(sitemaps(&site) == before || site.paths().len() == 3000);
        }
        assert_eq!(site.paths().len(), 3000);
        for (name, bytes) in &before {
            fs::write(site.path("public").join(name), bytes).unwrap();
        }
    }
    assert!(refused > 0);
}

#[rstest]
fn a_signal_leaves_the_old_set_or_the_new_one(#[values("INT", "TERM", "HUP")] signal: &str) {
    let mut site = TestSite::new(CONFIG);
    table(&site, 20_000, 0);
    site.build();
    let mut stopped = 0;
    for round in 1..=12 {
        site.at(NOON + 60 * round);
        let old = sitemaps(&site);
        table(&site, 20_000, round as usize);
        let child = site.command(&["build", "--quiet"]).spawn().unwrap();
        sleep(Duration::from_millis(30 * round as u64));
        Command::new("kill").args([&format!("-{signal}"), &child.id().to_string()]).status().unwrap();
        let ran = Ran::of(child.wait_with_output().unwrap());
        let now = sitemaps(&site);
        // On a busy machine the signal may come before the program handles it: then it has not begun.
        assert!([0, 130].contains(&ran.code) || ran.code == -1 && now == old, "{}", ran.code);
        stopped += u64::from(ran.code == 130);
        site.build();
        let new = sitemaps(&site);
        assert!(now == old || now == new, "neither the old set nor the new one, in round {round}");
    }
    assert!(stopped > 0);
}

#[test]
fn the_state_is_one_portable_folder() {
    let site = TestSite::new(CONFIG);
    table(&site, 1000, 0);
    site.build();
    let elsewhere = TestSite::new(CONFIG);
    table(&elsewhere, 1000, 0);
    for folder in [".idle-atlas", "public"] {
        let copied = Command::new("cp").arg("-r").arg(site.path(folder)).arg(elsewhere.path("")).status().unwrap();
        assert!(copied.success());
    }
    let built = elsewhere.build();
    assert_eq!(built["written"].as_array().map(Vec::len), Some(0), "{}", built["written"]);
}

#[test]
fn the_ledger_can_be_exported() {
    let site = TestSite::new(CONFIG);
    table(&site, 700, 0);
    site.build();
    let ran = site.run(&["history", "--entries"]);
    let mut reader = csv::Reader::from_reader(ran.out.as_bytes());
    assert_eq!(reader.headers().unwrap(), vec!["url", "file", "section", "strand", "lastmod", "seen", "run"]);
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    assert_eq!(rows.len(), 700);
    assert_eq!(&rows[699][1], "atlas-pages-3.xml");
    let lines = site.run(&["history", "--entries", "--json"]).out;
    assert_eq!(lines.lines().count(), 700);
    assert!(lines.lines().all(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()["run"] == 1));
}
