//! What `survey` and `build` show: what people look at most.

use std::path::Path;

use atlas_store::provenance::SourceChange;
use atlas_store::report::{Built, Counted, DueTo, Fate, IncompleteVideo, Remapped, RobotsFate, SectionReport, Survey};

use atlas_store::build::Recalled;
use atlas_store::look::Noticed;
use jiff::tz::TimeZone;

use super::grid::Grid;
use super::preview::plain;
use super::words::{count, date, grouped, size};
use crate::screen::{FAINT, GOOD, STRONG, WARN};

/// How many problems, files or videos are listed before the rest is only counted.
const FEW: usize = 8;

/// The text of `survey`.
pub fn survey(survey: &Survey, verbose: bool, zone: &TimeZone) -> String {
    let entries: u64 = survey.sections.iter().map(|section| section.entries).sum();
    let left_out: u64 = survey.left_out.iter().map(|left_out| left_out.counted.count).sum();
    let mut out = format!(
        "{STRONG}{} would be in{STRONG:#}, {} left out. Nothing has been written.\n\n",
        count(entries, "entry", "entries"),
        grouped(left_out)
    );
    out += &sources(survey);
    out += &findings(survey, verbose, zone);
    out += &missing_robots(survey);
    out += &undeclared(survey);
    for held in &survey.held {
        out += &format!("{WARN}A build would be held back ({}):{WARN:#} {held}\n\n", held.guard.code());
    }
    if entries > 0 {
        out += &submit(survey);
    }
    if survey.held.is_empty() {
        out += &format!("\n{FAINT}Next: idle-atlas build{FAINT:#}\n");
    }
    out
}

/// Which files of another tool are kept that are about to be written over.
pub fn overwritten(kept: &[String], ledger: &Path) -> String {
    let (main, others) = kept.split_first().map_or(("", 0), |(main, others)| (main.as_str(), others.len() as u64));
    let (others, they) = match others {
        0 => (String::new(), "it knows"),
        _ => (format!(" and {} that it lists", count(others, "file", "files")), "they know"),
    };
    format!(
        "Kept the {main} of another tool{others} in {}. URLs and dates that only {they} are taken over.\n\n",
        ledger.join("overwritten").display()
    )
}

/// What was learnt from sitemaps because there was no ledger.
pub fn recalled(recalled: &Recalled) -> String {
    let passed_over = match &recalled.passed_over[..] {
        [] => String::new(),
        [first, rest @ ..] => format!(
            "; {first}{} cannot be read as this tool writes, and its entries are placed anew",
            if rest.is_empty() { String::new() } else { format!(" and {} more", rest.len()) }
        ),
    };
    format!(
        "There is no ledger: the places and dates of {} were learnt from {}{passed_over}.\n\n",
        count(recalled.entries, "entry", "entries"),
        count(recalled.files, "sitemap file", "sitemap files")
    )
}

/// What to submit: one URL, or those of all indexes.
fn submit(survey: &Survey) -> String {
    if survey.more_indexes.is_empty() {
        return format!("Submit this one URL:  {STRONG}{}{STRONG:#}\n", survey.main);
    }
    let mut out =
        format!("Submit these {} URLs, because one index cannot hold all files:\n", 1 + survey.more_indexes.len());
    for address in std::iter::once(&survey.main).chain(&survey.more_indexes) {
        out += &format!("  {STRONG}{address}{STRONG:#}\n");
    }
    out
}

/// The text of `build`; `elsewhere` is the address of the site's robots.txt where the sitemaps are on another host.
pub fn built(built: &Built, elsewhere: Option<&str>, has_engines: bool, verbose: bool, zone: &TimeZone) -> String {
    let survey = &built.survey;
    let entries: u64 = survey.sections.iter().map(|section| section.entries).sum();
    let files: usize = survey.sections.iter().map(|section| section.files.len()).sum();
    let mut out = format!(
        "{STRONG}Run {}: {} in {}{STRONG:#}",
        built.run,
        count(entries, "entry", "entries"),
        count(files as u64, "sitemap file", "sitemap files")
    );
    out += &match built.written.len() {
        0 => format!("; {GOOD}nothing to write{GOOD:#}, every file is as it should be.\n\n"),
        written => format!("; {} written.\n\n", count(written as u64, "file", "files")),
    };
    let remarks = source_remarks(survey);
    if !remarks.is_empty() {
        out += &format!("{remarks}\n");
    }
    out += &findings(survey, verbose, zone);
    out += &written(built, verbose);
    out += &submit(survey);
    out += &children(survey, verbose);
    if let (Some(robots), RobotsFate::Unnamed) = (elsewhere, survey.robots) {
        out += &format!(
            "\n{WARN}Sitemaps on another host count only if the site declares them:{WARN:#} put this line into {robots}\n  Sitemap: {}\n",
            survey.main
        );
    }
    out += &missing_robots(survey);
    if survey.changes.first && elsewhere.is_none() {
        out += &undeclared(survey);
    }
    let next = match (has_engines, survey.changes.first) {
        (true, true) => "idle-atlas check, then idle-atlas announce --dry-run",
        (true, false) => "idle-atlas announce",
        (false, _) => "idle-atlas check",
    };
    out += &format!("\n{FAINT}Next: {next}{FAINT:#}\n");
    out
}

fn sources(survey: &Survey) -> String {
    let mut grid = Grid::new(&["source", ">rows", ">go in", ">left out", ">unchanged", ">not read"]);
    for source in &survey.sources {
        let outcome = &source.outcome;
        let numbers = [outcome.rows, source.kept, source.left_out, outcome.unchanged_files, outcome.problem_count];
        grid.row([vec![outcome.name.clone()], numbers.map(blank_or).to_vec()].concat());
    }
    grid.text() + &source_remarks(survey) + "\n"
}

/// What sources have to say of themselves.
fn source_remarks(survey: &Survey) -> String {
    let remarks = survey.sources.iter().flat_map(|source| source.outcome.remarks.iter().map(move |one| (source, one)));
    remarks.map(|(source, remark)| format!("  {WARN}{}:{WARN:#} {remark}\n", source.outcome.name)).collect()
}

/// Facts that no entry shows by itself: a line each, or all that is known of them.
fn notices(survey: &Survey, verbose: bool) -> String {
    if survey.notices.is_empty() {
        return String::new();
    }
    let what = |notice: &Noticed| match &notice.about {
        Some(about) => format!("{} – {about}", notice.words),
        None => notice.words.to_owned(),
    };
    if verbose {
        let mut out = format!("{WARN}Worth a look{WARN:#}\n");
        for notice in &survey.notices {
            out += &format!("\n  {} {}: {}\n", grouped(notice.count), what(notice), notice.advice);
            out += &notice.examples.iter().map(|example| format!("    {example}\n")).collect::<String>();
            if let Some(more @ 1..) = notice.count.checked_sub(notice.examples.len() as u64) {
                out += &format!("    and {} more\n", grouped(more));
            }
        }
        return out + "\n";
    }
    let mut grid = Grid::new(&[">count", "worth a look", "for example"]);
    for notice in survey.notices.iter().take(FEW) {
        let example = notice.examples.first().map_or(String::new(), |example| example.url.clone());
        grid.row([grouped(notice.count), what(notice), example]);
    }
    let more = match survey.notices.len().checked_sub(FEW) {
        Some(more @ 1..) => format!("  and {more} more\n"),
        _ => String::new(),
    };
    grid.text() + &more + &format!("  {FAINT}More of them, and what to do: idle-atlas survey --verbose{FAINT:#}\n\n")
}

fn findings(survey: &Survey, verbose: bool, zone: &TimeZone) -> String {
    let mut out = sections(survey);
    out += &left_out(survey, verbose);
    out += &changes(survey, verbose);
    out += &waiting(survey, zone);
    out += &problems(survey, verbose);
    out += &videos(survey, verbose);
    out += &notices(survey, verbose);
    if survey.dates_held_back.count > 0 {
        out += &format!(
            "{WARN}{}{WARN:#} that is in the future or before 1990; it is not written, such as {}\n\n",
            count(survey.dates_held_back.count, "entry declares a date of change", "entries declare a date of change"),
            survey.dates_held_back.examples.first().map_or("", String::as_str)
        );
    }
    if survey.headless.count > 0 {
        out += &format!(
            "{WARN}{}{WARN:#} no head, hence no title and no canonical; listed all the same, such as {}\n\n",
            count(survey.headless.count, "page has", "pages have"),
            survey.headless.examples.first().map_or("", String::as_str)
        );
    }
    out
}

fn blank_or(number: u64) -> String {
    if number == 0 { "–".to_owned() } else { grouped(number) }
}

fn sections(survey: &Survey) -> String {
    let any_news = survey.sections.iter().any(|section| section.news > 0);
    let mut names = vec!["section", ">entries", ">pictures", ">videos", ">news", "newest", ">files", ">size"];
    names.retain(|name| any_news || *name != ">news");
    let mut grid = Grid::new(&names);
    let cells = |cells: [String; 8]| {
        let [section, entries, pictures, videos, news, newest, files, size] = cells;
        let news = any_news.then_some(news);
        [section, entries, pictures, videos].into_iter().chain(news).chain([newest, files, size]).collect::<Vec<_>>()
    };
    let newest = |section: &SectionReport| {
        section.newest.map_or("–".to_owned(), |date| date.to_string().chars().take(10).collect())
    };
    for section in &survey.sections {
        grid.row(cells([
            section.name.clone(),
            grouped(section.entries),
            blank_or(section.images),
            blank_or(section.videos),
            blank_or(section.news),
            newest(section),
            grouped(section.files.len() as u64),
            size(section.bytes()),
        ]));
    }
    if survey.sections.len() > 1 {
        let sum = |of: fn(&SectionReport) -> u64| survey.sections.iter().map(of).sum::<u64>();
        grid.row(cells([
            "all".to_owned(),
            grouped(sum(|section| section.entries)),
            blank_or(sum(|section| section.images)),
            blank_or(sum(|section| section.videos)),
            blank_or(sum(|section| section.news)),
            survey.sections.iter().map(newest).filter(|date| date != "–").max().unwrap_or_else(|| "–".to_owned()),
            grouped(sum(|section| section.files.len() as u64)),
            size(sum(SectionReport::bytes)),
        ]));
    }
    grid.text() + "\n"
}

fn left_out(survey: &Survey, verbose: bool) -> String {
    if survey.left_out.is_empty() {
        return String::new();
    }
    let mut grid = Grid::new(&[">left out", "because", "for example"]);
    for left_out in &survey.left_out {
        let shown = if verbose { left_out.counted.examples.len() } else { 1 };
        let mut examples = left_out.counted.examples.iter().take(shown);
        grid.row([
            grouped(left_out.counted.count),
            left_out.words.to_owned(),
            examples.next().cloned().unwrap_or_default(),
        ]);
        examples.for_each(|example| grid.row(["", "", example]));
    }
    grid.text() + &format!("  {FAINT}Each step that led there: idle-atlas why URL{FAINT:#}\n\n")
}

fn changes(survey: &Survey, verbose: bool) -> String {
    let changes = &survey.changes;
    if changes.first {
        return "There was no build before: this one is the baseline that changes are counted from.\n\n".to_owned();
    }
    let kinds = [
        ("+", "added", &changes.added),
        ("~", "changed", &changes.changed),
        ("−", "removed", &changes.removed),
        ("○", "now left out", &changes.left_out),
    ];
    let mut out = if kinds.iter().all(|(_, _, counted)| counted.count == 0) {
        "Since the last build: no entry changed.\n\n".to_owned()
    } else {
        let said: Vec<String> = kinds
            .iter()
            .filter(|(_, _, counted)| counted.count > 0)
            .map(|(_, word, counted)| format!("{} {word}", grouped(counted.count)))
            .collect();
        format!("Since the last build: {}\n", said.join(", "))
    };
    let shown = if verbose { usize::MAX } else { 3 };
    for (sign, _, counted) in kinds {
        out += &examples(sign, counted, shown);
    }
    if !out.ends_with("\n\n") {
        out.push('\n');
    }
    for Remapped { source, change, entries } in &changes.remapped {
        let what = match change {
            SourceChange::Mapping => format!("The mapping of {source} changed"),
            SourceChange::Joined => format!("{source} is new"),
            SourceChange::Left => format!("{source} is gone from the configuration"),
        };
        out += &format!(
            "{WARN}{what}:{WARN:#} {} taken as {}. That changes no page, and nothing of it will be announced.\n\n",
            count(*entries, "entry is", "entries are"),
            if *entries == 1 { "it is" } else { "they are" }
        );
    }
    if changes.redesign {
        out += &format!(
            "{WARN}Most pages changed at once{WARN:#} and no declared date did: taken for a redesign. Dates hold, and nothing will be announced.\n\n"
        );
    }
    out
}

/// What goes in or leaves by itself when its time comes.
fn waiting(survey: &Survey, zone: &TimeZone) -> String {
    let waiting = &survey.waiting;
    if waiting.count == 0 {
        return String::new();
    }
    let mut grid = Grid::new(&["falls due", "and then", "url"]);
    for due in &waiting.soonest {
        let then = match due.to {
            DueTo::GoIn => "goes in",
            DueTo::Leave => "leaves",
        };
        grid.row([date(&due.at, zone), then.to_owned(), due.url.clone()]);
    }
    let more = match waiting.count.checked_sub(waiting.soonest.len() as u64) {
        Some(more @ 1..) => format!("  and {} more later\n", grouped(more)),
        _ => String::new(),
    };
    grid.text() + &more + "\n"
}

fn examples(sign: &str, counted: &Counted, shown: usize) -> String {
    let mut out: String = counted.examples.iter().take(shown).map(|url| format!("  {sign} {url}\n")).collect();
    let listed = counted.examples.len().min(shown) as u64;
    if listed > 0 && counted.count > listed {
        out += &format!("  {sign} and {} more\n", grouped(counted.count - listed));
    }
    out
}

fn problems(survey: &Survey, verbose: bool) -> String {
    let all: u64 = survey.sources.iter().map(|source| source.outcome.problem_count).sum();
    if all == 0 {
        return String::new();
    }
    let shown = if verbose { usize::MAX } else { FEW };
    let mut out = format!("{WARN}Could not be read, or not in full:{WARN:#} {}\n", grouped(all));
    let problems = survey.sources.iter().flat_map(|source| &source.outcome.problems);
    for problem in problems.take(shown) {
        let line = problem.line.map_or(String::new(), |line| format!(" line {line}"));
        out += &format!("  {}{line}: {}\n", problem.file, problem.message);
    }
    if all > shown as u64 {
        out += &format!("  and {} more; all of them: --verbose or --json\n", grouped(all - shown as u64));
    }
    out + "\n"
}

fn videos(survey: &Survey, verbose: bool) -> String {
    let videos = &survey.incomplete_videos;
    if videos.is_empty() {
        return String::new();
    }
    let shown = if verbose { usize::MAX } else { FEW };
    let number = videos.len() as u64;
    let mut out = format!(
        "{WARN}{}{WARN:#} for want of a part that engines require:\n",
        count(number, "video is not written", "videos are not written")
    );
    let alike: Vec<&[IncompleteVideo]> = videos.chunk_by(|one, other| one == other).collect();
    for group in alike.iter().take(shown) {
        let lacks: Vec<&str> = group[0].lacks.iter().map(|part| part.words()).collect();
        let number = if group.len() > 1 { format!(" ({} videos)", grouped(group.len() as u64)) } else { String::new() };
        out += &format!("  {}: no {}{number}\n", group[0].page, lacks.join(", no "));
    }
    if alike.len() > shown {
        out += &format!("  and {} more\n", count((alike.len() - shown) as u64, "page", "pages"));
    }
    out + "\n"
}

/// What to put into the robots.txt that the site has elsewhere, if it has one.
fn missing_robots(survey: &Survey) -> String {
    if survey.robots != RobotsFate::Missing {
        return String::new();
    }
    format!(
        "\n{WARN}There is no robots.txt to declare in:{WARN:#} if the site serves one from elsewhere, add to it\n{}{FAINT}If it has none at all, [robots] create = true makes it.{FAINT:#}\n\n",
        sitemap_lines(survey)
    )
}

/// What to put into robots.txt where the configuration leaves that to the webmaster.
fn undeclared(survey: &Survey) -> String {
    if survey.robots != RobotsFate::Unnamed {
        return String::new();
    }
    format!(
        "\nThe configuration names no robots.txt to declare in. Name one ([robots] file), or add to it by hand\n{}\n",
        sitemap_lines(survey)
    )
}

fn sitemap_lines(survey: &Survey) -> String {
    let addresses = std::iter::once(&survey.main).chain(&survey.more_indexes);
    addresses.map(|address| format!("  Sitemap: {address}\n")).collect()
}

/// What happened to the files.
fn written(built: &Built, verbose: bool) -> String {
    let files = built.survey.sections.iter().flat_map(|section| &section.files);
    let touched: Vec<_> = files.filter(|file| file.fate != Fate::Unchanged).collect();
    let mut out = String::new();
    if !touched.is_empty() && !built.survey.changes.first {
        let shown = if verbose { usize::MAX } else { FEW };
        for file in touched.iter().take(shown) {
            let fate = match file.fate {
                Fate::New => "new",
                Fate::Changed => "changed",
                Fate::Restored => "restored",
                Fate::Unchanged => "unchanged",
            };
            out += &format!("  {fate:<9} {}\n", file.address);
        }
        if touched.len() > shown {
            out += &format!("  and {} more\n", grouped((touched.len() - shown) as u64));
        }
    }
    let asides: Vec<String> = built.asides().map(plain).collect();
    if !asides.is_empty() {
        let more = match asides.len().checked_sub(FEW) {
            Some(more @ 1..) if !verbose => format!(", and {} more", grouped(more as u64)),
            _ => String::new(),
        };
        let named: Vec<String> = asides.into_iter().take(if verbose { usize::MAX } else { FEW }).collect();
        out += &format!("  written   {}{more}\n", named.join(", "));
    }
    for name in &built.retired {
        out += &format!("  retired   {name} (left the index; stays on disk for 14 days)\n");
    }
    for name in &built.removed {
        out += &format!("  removed   {}\n", plain(name));
    }
    out += match built.survey.robots {
        RobotsFate::Unnamed | RobotsFate::Unchanged | RobotsFate::Missing => "",
        RobotsFate::TakenOver => "  created   robots.txt: the live site's, with a Sitemap line of ours\n",
        RobotsFate::Created => "  created   robots.txt, with its Sitemap line\n",
        RobotsFate::Declared => "  declared  in robots.txt\n",
    };
    if out.is_empty() { out } else { out + "\n" }
}

/// Each child file, for those who submit and count them one by one.
fn children(survey: &Survey, verbose: bool) -> String {
    let files: Vec<_> = survey.sections.iter().flat_map(|section| &section.files).collect();
    if files.len() < 2 {
        return String::new();
    }
    let shown = if verbose { usize::MAX } else { 20 };
    let mut grid = Grid::new(&[">entries", ">size", "file"]);
    for file in files.iter().take(shown) {
        grid.row([grouped(file.entries), size(file.bytes), file.address.clone()]);
    }
    let more = match files.len().checked_sub(shown) {
        Some(more) if more > 0 => format!("  and {} more: --verbose or --json\n", grouped(more as u64)),
        _ => String::new(),
    };
    format!("or, to have each counted alone:\n\n{}{more}", grid.text())
}
