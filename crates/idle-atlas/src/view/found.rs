//! The findings of a run, for `survey` and `build`: all of them, or those that differ from the last build.

use atlas_core::choose::Reason;
use atlas_core::report::{Counted, Increment, Noticed, Problem, SourceFailure};
use atlas_store::report::{
    Due, DueTo, LastBuild, LeftOut, Remapped, RobotsFate, SectionReport, SourceChange, SourceReport, Survey,
};

use super::grid::Grid;
use crate::screen::{FAINT, Layout, STRONG, WARN, count, date, grouped, size};

/// How many problems, files or remarks are listed before the rest are only counted.
pub const FEW: usize = 8;
/// How many sections are listed without `--verbose`.
const MOST_SECTIONS: usize = 40;

/// The part of a survey that is shown.
pub struct Shown<'s> {
    pub survey: &'s Survey,
    /// The report of the last build, which need not be repeated; `None` to show everything.
    pub last: Option<&'s LastBuild>,
    pub layout: &'s Layout,
}

impl Shown<'_> {
    /// What is listed, and what is left out.
    pub fn tables(&self) -> String {
        self.sections() + &self.left_out()
    }

    fn is_new(&self, told: impl Fn(&LastBuild) -> bool) -> bool {
        !self.last.is_some_and(told)
    }

    fn new_sections(&self) -> impl Iterator<Item = &SectionReport> {
        self.survey.sections.iter().filter(|section| self.is_new(|last| last.had_section(section)))
    }

    fn new_reasons(&self) -> impl Iterator<Item = &LeftOut> {
        // It goes without saying that the files of this tool are skipped.
        let is_told =
            |left_out: &&LeftOut| self.is_new(|last| left_out.reason == Reason::OwnFile || last.left_out(left_out));
        self.survey.left_out.iter().filter(is_told)
    }

    fn new_notices(&self) -> impl Iterator<Item = &Noticed> {
        self.survey.notices.iter().filter(|one| self.is_new(|last| last.remarked(one.code.code(), one.count)))
    }

    /// Problems that were not shown before. Problems that keep a row or file from being listed are shown each time.
    fn new_problems(&self) -> Vec<&Problem> {
        let all = self.survey.sources.iter().flat_map(|source| {
            let told =
                self.last.map_or_else(Vec::new, |last| last.told(&source.outcome.name, &source.outcome.problems));
            source
                .outcome
                .problems
                .iter()
                .filter(move |one| one.passed_over || !told.iter().any(|told| std::ptr::eq(*told, *one)))
        });
        all.collect()
    }

    /// The sources that could not be read whole, and what becomes of their entries.
    pub fn failures(&self) -> String {
        let told = self.survey.failures().map(|(name, failure)| {
            let what = if failure.in_part { "not all of it could be read" } else { "it could not be read" };
            let SourceFailure { why, since, stand, .. } = failure;
            let mut lines = format!("{WARN}{name}: {what}{WARN:#}\n  {}\n", self.layout.urls(why));
            if *stand > 0 {
                let stay = if *stand == 1 { "stays" } else { "stay" };
                let since = since.map_or(String::new(), |since| {
                    format!("; it has failed since {}", date(&since, &self.layout.zone))
                });
                lines += &format!("  {} of its entries {stay} as written until it can be{since}\n", grouped(*stand));
            }
            lines
        });
        told.collect()
    }

    /// What sources were asked for that were asked for changes alone.
    pub fn increments(&self) -> String {
        let told = self.survey.sources.iter().filter_map(|source| {
            let Increment { since, stand } = source.outcome.increment.as_ref()?;
            let stands = if *stand == 1 { "entry stands as it was" } else { "entries stand as they were" };
            let (rows, since) = (count(source.outcome.rows, "row", "rows"), date(since, &self.layout.zone));
            Some(format!("{}: {rows} since {since}; {} {stands}\n", source.outcome.name, grouped(*stand)))
        });
        told.collect()
    }

    /// The remarks of sources about themselves.
    pub fn source_remarks(&self) -> String {
        let said = |source: &SourceReport| {
            let name = source.outcome.name.clone();
            let remarks = source.outcome.remarks.iter().filter(|one| self.is_new(|last| last.heard(&name, one)));
            remarks.map(|one| format!("  {WARN}{name}:{WARN:#} {}\n", self.layout.urls(one))).collect::<String>()
        };
        self.survey.sources.iter().map(said).collect()
    }

    fn sections(&self) -> String {
        let new: Vec<&SectionReport> = self.new_sections().collect();
        if new.is_empty() {
            return String::new();
        }
        let any_news = new.iter().any(|section| section.news > 0);
        let mut names = vec!["section", ">entries", ">pictures", ">videos", "?>news", "newest", "?>files", "?>size"];
        names.retain(|name| any_news || *name != "?>news");
        let mut grid = Grid::new(&names);
        let cells = |cells: [String; 8]| {
            let [section, entries, pictures, videos, news, newest, files, size] = cells;
            let news = any_news.then_some(news);
            [section, entries, pictures, videos]
                .into_iter()
                .chain(news)
                .chain([newest, files, size])
                .collect::<Vec<_>>()
        };
        let newest = |section: &SectionReport| {
            section.newest.map_or("–".to_owned(), |date| date.to_string().chars().take(10).collect())
        };
        let shown = if self.layout.verbose { new.len() } else { new.len().min(MOST_SECTIONS) };
        for section in &new[..shown] {
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
        if new.len() > 1 && new.len() == self.survey.sections.len() {
            let sum = |of: fn(&SectionReport) -> u64| new.iter().map(|section| of(section)).sum::<u64>();
            grid.row(cells([
                "all".to_owned(),
                grouped(sum(|section| section.entries)),
                blank_or(sum(|section| section.images)),
                blank_or(sum(|section| section.videos)),
                blank_or(sum(|section| section.news)),
                new.iter()
                    .map(|section| newest(section))
                    .filter(|date| date != "–")
                    .max()
                    .unwrap_or_else(|| "–".to_owned()),
                grouped(sum(|section| section.files.len() as u64)),
                size(sum(SectionReport::bytes)),
            ]));
        }
        let more = match new.len() - shown {
            0 => String::new(),
            more => format!("  and {}: --verbose or --json\n", count(more as u64, "more section", "more sections")),
        };
        grid.text(self.layout) + &more + "\n"
    }

    fn left_out(&self) -> String {
        let mut grid = Grid::new(&[">left out", "because", "for example"]);
        let mut more = 0;
        let mut any = false;
        for left_out in self.new_reasons() {
            any = true;
            let Counted { count, examples } = &left_out.counted;
            let mut shown = examples.iter().take(self.layout.shown(1));
            let example = |url: Option<&String>| url.map_or(String::new(), |url| self.layout.urls(url).into_owned());
            grid.row([grouped(*count), left_out.words.to_owned(), example(shown.next())]);
            shown.for_each(|url| grid.row([String::new(), String::new(), example(Some(url))]));
            more += count - (examples.len() as u64).min(*count);
        }
        if !any {
            return String::new();
        }
        let rest = match self.layout.verbose && more > 0 {
            true => format!("  {} more: idle-atlas survey --list --reason CODE\n", grouped(more)),
            false => String::new(),
        };
        grid.text(self.layout)
            + &rest
            + &format!("  {FAINT}Each step of the decision: idle-atlas why URL --fresh{FAINT:#}\n\n")
    }

    /// What changed since the last build; empty if nothing did.
    pub fn changes(&self) -> String {
        let changes = &self.survey.changes;
        if changes.first {
            return "There was no build before: this one is the baseline that changes are counted from.\n\n".to_owned();
        }
        let kinds = [
            ("+", "added", &changes.added),
            ("~", "changed", &changes.changed),
            ("−", "removed", &changes.removed),
            ("○", "now left out", &changes.left_out),
        ];
        let mut out = String::new();
        if kinds.iter().any(|(_, _, counted)| counted.count > 0) {
            let said = kinds.iter().filter(|(_, _, counted)| counted.count > 0);
            let said: Vec<String> =
                said.map(|(_, word, counted)| format!("{} {word}", grouped(counted.count))).collect();
            out += &format!("Since the last build: {}\n", said.join(", "));
            for (sign, _, counted) in kinds {
                out += &self.examples(sign, counted);
            }
            out.push('\n');
        }
        for Remapped { source, change, entries } in &changes.remapped {
            let what = match change {
                SourceChange::Mapping => format!("The mapping of {source} changed"),
                SourceChange::Joined => format!("{source} is new"),
                SourceChange::Left => format!("{source} is gone from the configuration"),
            };
            out += &format!(
                "{WARN}{what}:{WARN:#} {} taken as {}. No page changed, and nothing will be announced.\n\n",
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

    fn examples(&self, sign: &str, counted: &Counted) -> String {
        let shown = counted.examples.iter().take(self.layout.shown(3));
        let mut out: String = shown.map(|url| format!("  {sign} {}\n", self.layout.urls(url))).collect();
        let listed = counted.examples.len().min(self.layout.shown(3)) as u64;
        if listed > 0 && counted.count > listed {
            out += &format!("  {sign} and {} more\n", grouped(counted.count - listed));
        }
        out
    }

    /// Entries that will be listed, or will leave, at a known time: all of them, or the next.
    pub fn waiting(&self) -> String {
        let waiting = &self.survey.waiting;
        let Some(next) = waiting.soonest.first() else { return String::new() };
        let then = |due: &Due| match due.to {
            DueTo::GoIn => "is listed",
            DueTo::Leave => "expires",
        };
        if self.last.is_some() {
            let url = self.layout.urls(&next.url);
            return format!("Due next: {url} {} on {}\n\n", then(next), date(&next.at, &self.layout.zone));
        }
        let mut grid = Grid::new(&["due", "then", "url"]);
        for due in &waiting.soonest {
            let url = self.layout.urls(&due.url).into_owned();
            grid.row([date(&due.at, &self.layout.zone), then(due).to_owned(), url]);
        }
        let more = match waiting.count.checked_sub(waiting.soonest.len() as u64) {
            Some(more @ 1..) => format!("  and {} more later\n", grouped(more)),
            _ => String::new(),
        };
        grid.text(self.layout) + &more + "\n"
    }

    /// What could not be read, in whole or in part.
    pub fn problems(&self) -> String {
        let new = self.new_problems();
        let kept: usize = self.survey.sources.iter().map(|source| source.outcome.problems.len()).sum();
        let all: u64 = self.survey.sources.iter().map(|source| source.outcome.problem_count).sum();
        // Problems whose words were not kept count as new.
        let all = all - (kept - new.len()) as u64;
        if all == 0 {
            return String::new();
        }
        let not_listed = new.iter().filter(|problem| problem.passed_over).count() as u64;
        let heading = match new.len() as u64 == all {
            true => problem_heading(all - not_listed, not_listed),
            false => format!("{} could not be read completely", grouped(all)),
        };
        let shown = self.layout.shown(FEW);
        let mut out = format!("{WARN}{heading}:{WARN:#}\n");
        for problem in new.iter().take(shown) {
            let line = problem.line.map_or(String::new(), |line| format!(" line {line}"));
            out += &format!("  {}{line}: {}\n", self.layout.urls(&problem.file), self.layout.urls(&problem.message));
        }
        if let Some(more @ 1..) = all.checked_sub(new.len().min(shown) as u64) {
            let how = if self.layout.verbose { "" } else { "; all of them: --verbose or --json" };
            out += &format!("  and {} more{how}\n", grouped(more));
        }
        out + "\n"
    }

    /// Notices: one line each, or with all details.
    pub fn notices(&self) -> String {
        let new: Vec<&Noticed> = self.new_notices().collect();
        let mut out = String::new();
        if self.layout.verbose && !new.is_empty() {
            out += &format!("{WARN}Worth a look{WARN:#}\n");
            for notice in new {
                out += &format!(
                    "\n  {} {} ({}): {}\n",
                    grouped(notice.count),
                    what(notice),
                    notice.code.code(),
                    notice.advice
                );
                for example in &notice.examples {
                    let text = example.to_string().replace('\n', "\n      ");
                    out += &format!("    {}\n", self.layout.urls(&text));
                }
                if let Some(more @ 1..) = notice.count.checked_sub(notice.examples.len() as u64) {
                    out += &format!("    and {} more\n", grouped(more));
                }
            }
            out.push('\n');
        } else if !new.is_empty() {
            let mut grid = Grid::new(&[">count", "worth a look", "for example"]);
            for notice in new.iter().take(2 * FEW) {
                let example = notice
                    .examples
                    .first()
                    .map_or(String::new(), |example| self.layout.urls(&example.url).into_owned());
                grid.row([grouped(notice.count), what(notice), example]);
            }
            out += &grid.text(self.layout);
            if let Some(more @ 1..) = new.len().checked_sub(2 * FEW) {
                out += &format!("  and {more} more\n");
            }
            out += &format!("  {FAINT}All of them, and what to do: idle-atlas survey --verbose{FAINT:#}\n\n");
        }
        out + &self.accepted()
    }

    /// The remarks that are not shown because they were accepted.
    fn accepted(&self) -> String {
        let accepted: u64 = self.survey.accepted.values().sum();
        let mut out = String::new();
        if accepted > 0 && self.last.is_none() {
            let codes: Vec<&str> = self.survey.accepted.keys().map(String::as_str).collect();
            out += &format!(
                "  {FAINT}{} not shown, because accepted: {}{FAINT:#}\n",
                count(accepted, "remark is", "remarks are"),
                codes.join(", ")
            );
        }
        for (line, code) in &self.survey.accepted_in_vain {
            out += &format!(
                "  {WARN}Line {line} of the known findings{WARN:#} ({code}) no longer matches anything; remove it\n"
            );
        }
        if out.is_empty() { out } else { out + "\n" }
    }

    /// What is the same as in the last build, in one line.
    pub fn as_before(&self) -> String {
        let survey = self.survey;
        if self.last.is_none() {
            return String::new();
        }
        let mut same = Vec::new();
        let mut add = |number: usize, one: &str, many: &str| {
            if number > 0 {
                same.push(count(number as u64, one, many));
            }
        };
        add(survey.sections.len() - self.new_sections().count(), "section", "sections");
        add(
            survey.left_out.len() - self.new_reasons().count(),
            "reason for leaving entries out",
            "reasons for leaving entries out",
        );
        let problems: usize = survey.sources.iter().map(|source| source.outcome.problems.len()).sum();
        add(
            problems - self.new_problems().len(),
            "value that could not be read with certainty",
            "values that could not be read with certainty",
        );
        let remarks =
            survey.sources.iter().flat_map(|source| source.outcome.remarks.iter().map(move |one| (source, one)));
        let heard = remarks.filter(|(source, one)| !self.is_new(|last| last.heard(&source.outcome.name, one))).count();
        let others = survey.other_sitemaps.iter().filter(|other| !self.is_new(|last| last.declared(other))).count();
        let undeclared = !self.is_new(|last| last.left_undeclared(survey.robots));
        let notices = survey.notices.len() - self.new_notices().count();
        add(notices + heard + others + usize::from(undeclared), "remark", "remarks");
        if same.is_empty() {
            return String::new();
        }
        let before = if survey.changes.first { "As in the survey" } else { "As in the last build" };
        format!("{before}: {}. Everything: idle-atlas survey\n", same.join(", "))
    }

    /// What to submit: one URL, or those of all indexes.
    pub fn submit(&self) -> String {
        let survey = self.survey;
        if survey.more_indexes.is_empty() {
            return format!("Submit this one URL:  {STRONG}{}{STRONG:#}\n", survey.main);
        }
        let number = count(1 + survey.more_indexes.len() as u64, "URL", "URLs");
        let mut out = format!("Submit these {number}, because one index cannot hold all files:\n");
        for address in std::iter::once(&survey.main).chain(&survey.more_indexes) {
            out += &format!("  {STRONG}{address}{STRONG:#}\n");
        }
        out
    }

    /// Sitemaps of other tools that robots.txt declares.
    pub fn other_sitemaps(&self) -> String {
        let new = self.survey.other_sitemaps.iter().filter(|other| self.is_new(|last| last.declared(other)));
        let lines: String = new.map(|other| format!("  line {}: Sitemap: {}\n", other.line, other.address)).collect();
        if lines.is_empty() {
            return lines;
        }
        format!(
            "{WARN}robots.txt declares sitemaps of others;{WARN:#} remove a line if its sitemap is no longer maintained:\n{lines}\n"
        )
    }

    /// What to add to a robots.txt that is elsewhere, or that the configuration leaves to the webmaster.
    pub fn undeclared(&self) -> String {
        let lines = sitemap_lines(self.survey);
        match self.survey.robots {
            fate if !self.is_new(|last| last.left_undeclared(fate)) => String::new(),
            RobotsFate::Missing => format!(
                "\n{WARN}There is no robots.txt for the declaration:{WARN:#} if the site serves one from elsewhere, add to it\n{lines}{FAINT}If it has none at all, [robots] create = true creates it.{FAINT:#}\n\n",
            ),
            RobotsFate::Unnamed => format!(
                "\nThe configuration names no robots.txt for the declaration. Name one ([robots] file), or add to it by hand\n{lines}\n",
            ),
            _ => String::new(),
        }
    }
}

/// The heading of problems, which distinguishes incomplete rows from those that are not listed.
fn problem_heading(but_for_a_part: u64, not_listed: u64) -> String {
    let part =
        |number| count(number, "value could not be read with certainty", "values could not be read with certainty");
    let lost = |number| {
        count(
            number,
            "row or file could not be read, and is not listed",
            "rows or files could not be read, and are not listed",
        )
    };
    match (but_for_a_part, not_listed) {
        (0, lost_alone) => lost(lost_alone),
        (part_alone, 0) => part(part_alone),
        (parts, not_listed) => format!("{}; {}", lost(not_listed), part(parts)),
    }
}

fn what(notice: &Noticed) -> String {
    match &notice.about {
        Some(about) => format!("{} – {about}", notice.words),
        None => notice.words.to_owned(),
    }
}

pub fn blank_or(number: u64) -> String {
    if number == 0 { "–".to_owned() } else { grouped(number) }
}

pub fn sitemap_lines(survey: &Survey) -> String {
    let addresses = std::iter::once(&survey.main).chain(&survey.more_indexes);
    addresses.map(|address| format!("  Sitemap: {address}\n")).collect()
}
