//! The output of `build --dry-run`.

use atlas_store::report::{FilePreview, Planned, Preview, RobotsFate, TextChange};
use similar::TextDiff;

use super::found::{Shown, blank_or};
use super::grid::Grid;
use super::guard;
use crate::screen::{BAD, FAINT, GOOD, Layout, STRONG, WARN, count, grouped, size};

/// How many files or URLs are listed before the rest are only counted.
const FEW: usize = 10;

/// The text of `build --dry-run`.
pub fn preview(preview: &Preview, layout: &Layout) -> String {
    let held: String = preview
        .survey
        .held
        .iter()
        .map(|held| format!("{WARN}It would be held back ({}):{WARN:#} {}\n\n", held.guard.code(), guard::held(held)))
        .collect();
    let nothing_to_do = preview.files.iter().all(|file| file.fate == Planned::Stays)
        && preview.extra_files.is_empty()
        && matches!(preview.survey.robots, RobotsFate::Unnamed | RobotsFate::Unchanged | RobotsFate::Missing);
    let next = match held.is_empty() && !nothing_to_do {
        true => layout.next("idle-atlas build"),
        false => String::new(),
    };
    let body = body(preview, layout, &held);
    if next.is_empty() { body.trim_end_matches('\n').to_owned() + "\n" } else { body + &next }
}

/// What a held build would have done. The guards that hold it back are shown separately.
pub fn held(preview: &Preview, layout: &Layout) -> String {
    body(preview, layout, "")
}

fn body(preview: &Preview, layout: &Layout, held: &str) -> String {
    let survey = &preview.survey;
    let entries: u64 = survey.sections.iter().map(|section| section.entries).sum();
    let at_stake: Vec<&FilePreview> = preview.files.iter().filter(|file| file.fate != Planned::Stays).collect();
    let staying = preview.files.len() - at_stake.len();
    let failures = Shown { survey, last: None, layout }.failures();
    let mut out = if failures.is_empty() { failures } else { failures + "\n" };
    out += &format!(
        "{STRONG}A build would list {} in {}{STRONG:#}. Nothing has been written.\n\n",
        count(entries, "entry", "entries"),
        count(survey.sections.iter().map(|section| section.files.len() as u64).sum(), "sitemap file", "sitemap files"),
    );
    out += &layout.host();
    out += held;
    if preview.files.is_empty() {
        out += "No sitemap file would be written.\n\n";
    } else if at_stake.is_empty() {
        out += &format!("{GOOD}No sitemap file would be written:{GOOD:#} all are up to date.\n\n");
    } else {
        out += &files(&at_stake, staying, layout);
    }
    let changes = &survey.changes;
    let shown = layout.shown(FEW);
    if !changes.first {
        let short = |url: &String| layout.urls(url).into_owned();
        out += &urls("be added", "+", preview.comes.iter().map(short), changes.added.count, shown);
        out += &urls("be announced as changed", "~", preview.edited.iter().map(short), changes.changed.count, shown);
        let gone = changes.removed.count + changes.left_out.count;
        let goes = preview.goes.iter().map(|one| format!("{}  ({})", layout.urls(&one.url), one.because));
        out += &urls("be removed", "−", goes, gone, shown);
        let moves = preview.moves.iter().map(|one| format!("{}  ({} to {})", layout.urls(&one.url), one.from, one.to));
        out += &urls("change their section", "→", moves, preview.moves.len() as u64, shown);
    }
    let mut others: Vec<String> = preview.extra_files.iter().map(|name| plain(name)).collect();
    match survey.robots {
        RobotsFate::Unnamed | RobotsFate::Unchanged | RobotsFate::Missing => {}
        RobotsFate::TakenOver => others.push("robots.txt (the live site's, with a Sitemap line)".to_owned()),
        RobotsFate::Created => others.push("robots.txt (new)".to_owned()),
        RobotsFate::Declared => others.push("robots.txt (its Sitemap line)".to_owned()),
    }
    if !others.is_empty() {
        let more = match others.len().checked_sub(shown) {
            Some(more @ 1..) => format!(", and {} more", grouped(more as u64)),
            _ => String::new(),
        };
        let named: Vec<String> = others.into_iter().take(shown).collect();
        out += &format!("Also to be written: {}{more}\n\n", named.join(", "));
    }
    if let Some(change) = &preview.robots_txt {
        out += &difference("robots.txt", change);
    }
    out
}

/// The difference between two texts, as a unified diff.
fn difference(name: &str, change: &TextChange) -> String {
    let diff = TextDiff::from_lines(&change.before, &change.after);
    let text = diff.unified_diff().header(name, name).to_string();
    let line = |line: &str| match line.as_bytes().first() {
        Some(b'+') => format!("  {GOOD}{line}{GOOD:#}\n"),
        Some(b'-') => format!("  {BAD}{line}{BAD:#}\n"),
        _ => format!("  {line}\n"),
    };
    // A robots.txt may hold anything, such as the escapes of a terminal.
    text.lines().map(|text| line(&text.replace(char::is_control, "�"))).collect::<String>() + "\n"
}

/// The name of a file as the user knows it.
pub fn plain(name: &str) -> String {
    match name.split_once(':') {
        Some(("site", name)) => name.to_owned(),
        Some(("data", name)) => format!("{name} (structured data)"),
        _ => name.to_owned(),
    }
}

fn files(at_stake: &[&FilePreview], staying: usize, layout: &Layout) -> String {
    let mut grid = Grid::new(&["would", ">entries", ">so far", "?>size", "file"]);
    let shown = layout.shown(2 * FEW);
    for file in at_stake.iter().take(shown) {
        let fate = match file.fate {
            Planned::New => "be new",
            Planned::Grows => "grow",
            Planned::Shrinks => "shrink",
            Planned::Changes => "change",
            Planned::Stays => "stay",
            Planned::Restored => "be restored",
            Planned::Vanishes => "vanish",
        };
        let bytes = if file.bytes == 0 { "–".to_owned() } else { size(file.bytes) };
        let address = layout.urls(&file.address).into_owned();
        grid.row([fate.to_owned(), blank_or(file.entries), blank_or(file.entries_before), bytes, address]);
    }
    let mut out = grid.text(layout);
    if at_stake.len() > shown {
        out += &format!("  and {} more: --verbose or --json\n", grouped((at_stake.len() - shown) as u64));
    }
    if staying > 0 {
        out +=
            &format!("  {FAINT}{} as before{FAINT:#}\n", count(staying as u64, "file would stay", "files would stay"));
    }
    out + "\n"
}

fn urls(verb: &str, sign: &str, lines: impl Iterator<Item = String>, all: u64, shown: usize) -> String {
    if all == 0 {
        return String::new();
    }
    let mut out = format!("{} would {verb}\n", count(all, "URL", "URLs"));
    let mut listed = 0;
    for line in lines.take(shown) {
        out += &format!("  {sign} {line}\n");
        listed += 1;
    }
    if all > listed {
        out += &format!("  {sign} and {} more\n", grouped(all - listed));
    }
    out + "\n"
}
