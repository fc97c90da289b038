//! A million rows of CSV: first build, and again with nothing changed, beside the same XML through `libdeflate-gzip -6` in
//! two halves at once. Prints medians and ratios; run it with `cargo bench --bench million -- [ROWS] [RUNS]`.

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

const CONFIG: &str = r#"
[site]
url = "https://www.marrowvale.example/"
web_root = "public"
[[source]]
from = "table"
file = "rows.csv"
"#;

/// The variants that are measured: what is written of them into the configuration.
const VARIANTS: [(&str, &str); 2] = [
    ("as it comes: gzip beside, files of 1,000", ""),
    ("gzip only, files of 50,000", "[files]\ngzip = \"only\"\nurls_per_file = 50000\n"),
];

fn main() {
    let numbers: Vec<usize> = std::env::args().skip(1).filter_map(|argument| argument.parse().ok()).collect();
    let rows = numbers.first().copied().unwrap_or(1_000_000);
    let runs = numbers.get(1).copied().unwrap_or(5);
    let folder = tempfile::tempdir().expect("a temporary folder");
    fs::write(folder.path().join("rows.csv"), table(rows)).expect("the table is written");

    println!(
        "{rows} rows, medians of {runs} runs; the limit is libdeflate-gzip -6 over the same XML, two halves at once\n"
    );
    for (name, files) in VARIANTS {
        let (mut limits, mut firsts, mut agains) = (Vec::new(), Vec::new(), Vec::new());
        let mut peak = 0;
        for run in 0..runs {
            let site = folder.path().join(format!("{}-{run}", &name[..4]));
            fs::create_dir_all(site.join("public")).expect("a web root");
            fs::write(site.join("idle-atlas.toml"), format!("{}{files}", CONFIG.replace("rows.csv", "../rows.csv")))
                .expect("a configuration");
            let (first, memory) = build(&site);
            let (again, memory_again) = build(&site);
            firsts.push(first);
            agains.push(again);
            peak = peak.max(memory).max(memory_again);
            limits.extend(limit(&site));
        }
        let (first, again) = (median(&mut firsts), median(&mut agains));
        println!("{name}");
        println!("  first build      {:6.2} s", first.as_secs_f64());
        println!("  nothing changed  {:6.2} s", again.as_secs_f64());
        println!("  peak memory      {:6} MiB", peak / 1024);
        if limits.is_empty() {
            println!("  no libdeflate-gzip here: no ratio (Debian: libdeflate-tools)");
        } else {
            let limit = median(&mut limits);
            let ratio = |time: Duration| time.as_secs_f64() / limit.as_secs_f64();
            println!(
                "  the limit        {:6.2} s: first build {:.2} of it, again {:.2}",
                limit.as_secs_f64(),
                ratio(first),
                ratio(again)
            );
        }
    }
}

/// Rows of the sample railway, the same for the same number.
fn table(rows: usize) -> String {
    const WORDS: [&str; 26] = [
        "lamp", "brass", "valve", "boiler", "signal", "halt", "tender", "coach", "timber", "ballast", "lever",
        "cutting", "viaduct", "meadow", "quarry", "lantern", "gauge", "rivet", "whistle", "smoke", "siding",
        "platform", "ledger", "token", "guard", "porter",
    ];
    const KINDS: [&str; 5] = ["page", "journal", "locomotive", "halt", "photograph"];
    let mut state = 7u64;
    let mut next = |below: usize| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % below
    };
    let mut out = "url,kind,modified,title\n".to_owned();
    for row in 0..rows {
        let kind = KINDS[next(KINDS.len())];
        let words: [&str; 4] = std::array::from_fn(|_| WORDS[next(WORDS.len())]);
        let (year, month, day) = (10 + next(17), 1 + next(12), 1 + next(28));
        let (hour, minute) = (next(24), next(60));
        writeln!(
            out,
            "https://www.marrowvale.example/{kind}s/{}-{row}/,{kind},20{year}-{month:02}-{day:02}T{hour:02}:{minute:02}:00Z,{}",
            words.join("-"),
            words.join(" ")
        )
        .expect("writing to a string");
    }
    out
}

/// Wall time, and peak memory in KiB where `/usr/bin/time` is there to tell it.
fn build(site: &Path) -> (Duration, u64) {
    let timed = Path::new("/usr/bin/time").exists();
    let mut command = if timed {
        let mut command = Command::new("/usr/bin/time");
        command.args(["-f", "%M", env!("CARGO_BIN_EXE_idle-atlas")]);
        command
    } else {
        Command::new(env!("CARGO_BIN_EXE_idle-atlas"))
    };
    let begun = Instant::now();
    let output = command.args(["build", "--quiet"]).current_dir(site).output().expect("the program runs");
    let wall = begun.elapsed();
    let errors = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{errors}");
    (wall, errors.trim().parse().unwrap_or(0))
}

/// The XML that was written, in two halves through libdeflate-gzip at once; nothing where that is not installed.
fn limit(site: &Path) -> Option<Duration> {
    let mut xml = Vec::new();
    let mut names: Vec<_> = fs::read_dir(site.join("public")).ok()?.flatten().map(|entry| entry.path()).collect();
    names.sort();
    for path in
        names.iter().filter(|path| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with("atlas-")))
    {
        let bytes = fs::read(path).ok()?;
        match path.extension()?.to_str()? {
            "xml" => xml.extend(bytes),
            _ if path.with_extension("").exists() => {}
            _ => xml.extend(atlas_store::squeeze::unpack(&bytes, 1 << 26).ok()?),
        }
    }
    let halves = [site.join("half-1"), site.join("half-2")];
    fs::write(&halves[0], &xml[..xml.len() / 2]).ok()?;
    fs::write(&halves[1], &xml[xml.len() / 2..]).ok()?;
    let begun = Instant::now();
    let children: Option<Vec<_>> =
        halves.iter().map(|half| Command::new("libdeflate-gzip").arg("-6").arg(half).spawn().ok()).collect();
    for mut child in children? {
        child.wait().ok()?;
    }
    Some(begun.elapsed())
}

fn median(times: &mut [Duration]) -> Duration {
    times.sort();
    times[times.len() / 2]
}
