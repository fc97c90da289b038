//! Resolving sections, rules and archives, and the hints that each may set.

use std::collections::BTreeMap;

use std::collections::HashSet;
use std::fs;

use atlas_core::archive::{Archive, Archives, By, slug};
use atlas_core::check::ThinWords;
use atlas_core::choose::{self, Condition, Covers, Met, Patterns, Rule, Section, Sections};
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::hint::{Hints, PriorityHint};
use globset::GlobBuilder;
use regex::{Regex, RegexBuilder};

use super::context::{Context, expand, is_template};
use super::file::ConfigFile;
use super::tables::{ArchiveTable, At, HintKeys, NumberOrWord, RuleTable};
use crate::exit::Failure;

/// The largest size of a compiled pattern in bytes: enough for any that a person writes.
const LARGEST_PATTERN: usize = 1 << 20;

impl Context<'_> {
    /// All sections: those with a table, then those that sources, rules and archives name.
    pub(super) fn sections(&self, typed: &ConfigFile) -> Result<Sections, Failure> {
        let usual = Section {
            urls_per_file: self.urls(typed.sections.urls_per_file.as_ref())?,
            bytes_per_file: self.bytes(typed.sections.bytes_per_file.as_ref())?,
            media_per_file: self.media_limit(typed.sections.media_per_file.as_ref())?,
            hints: self.hints(&typed.sections.hints(), false)?,
            ..Section::named("")
        };
        let mut sections: Vec<Section> = Vec::new();
        for table in &typed.section {
            let name = table.name.as_ref();
            self.section_name("name", &table.name)?;
            if sections.iter().any(|known| known.name == *name) {
                let message = format!("there are two sections “{name}”; give one another name");
                return Err(self.origin.error(&table.name, message));
            }
            sections.push(Section {
                name: name.clone(),
                title: table.title.clone(),
                matching: (!table.matching.is_empty()).then(|| self.paths(&table.matching)).transpose()?,
                on: table.on.unwrap_or(true),
                urls_per_file: self.urls(table.urls_per_file.as_ref())?.or(usual.urls_per_file),
                bytes_per_file: self.bytes(table.bytes_per_file.as_ref())?.or(usual.bytes_per_file),
                media_per_file: self.media_limit(table.media_per_file.as_ref())?.or(usual.media_per_file),
                hints: self.hints(&table.hints(), false)?.or(usual.hints),
            });
        }
        let by_sources = typed.source.iter().filter_map(|table| table.as_ref().section.as_ref());
        let by_sources = by_sources.filter(|name| !is_template(name.as_ref()));
        let by_rules = typed.rule.iter().filter_map(|table| table.as_ref().section.as_ref());
        let by_archives = typed.archive.iter().filter_map(|table| table.as_ref().into.as_ref());
        let named: Vec<&At<String>> = by_sources.chain(by_rules).chain(by_archives).collect();
        named.iter().try_for_each(|name| self.section_name("section", name))?;
        let named = named.into_iter().map(|name| name.as_ref().clone());
        Ok(Sections::with_usual(sections, named, usual))
    }

    /// The number of words below which a page is thin, for all sections and for single ones.
    pub(super) fn thin_words(&self, typed: &ConfigFile) -> Result<ThinWords, Failure> {
        let number = |number: &At<i64>| {
            u32::try_from(*number.as_ref())
                .map_err(|_| self.origin.error(number, "“thin_words”: expected a number of words, 0 or more"))
        };
        let usual = typed.check.thin_words.as_ref().map(number).transpose()?;
        let mut sections = BTreeMap::new();
        for table in &typed.section {
            if let Some(words) = &table.thin_words {
                sections.insert(table.name.as_ref().clone(), number(words)?);
            }
        }
        Ok(ThinWords { usual: usual.unwrap_or(ThinWords::default().usual), sections })
    }

    fn urls(&self, typed: Option<&At<i64>>) -> Result<Option<u32>, Failure> {
        typed.map(|number| self.urls_per_file(number)).transpose()
    }

    fn bytes(&self, typed: Option<&At<i64>>) -> Result<Option<u64>, Failure> {
        typed.map(|number| self.bytes_per_file(number)).transpose()
    }

    fn media_limit(&self, typed: Option<&At<i64>>) -> Result<Option<u32>, Failure> {
        typed.map(|number| self.media_per_file(number)).transpose()
    }

    fn section_name(&self, key: &str, name: &At<String>) -> Result<(), Failure> {
        choose::check_section_name(name.as_ref()).map_err(|why| self.origin.error(name, format!("“{key}”: {why}")))
    }

    /// A section that must be known, because nothing would ever be in it otherwise.
    pub(super) fn known_section(&self, sections: &Sections, name: &At<String>) -> Result<usize, Failure> {
        sections.named(name.as_ref()).ok_or_else(|| {
            let known: Vec<&str> = sections.list().iter().map(|section| section.name.as_str()).collect();
            let message = format!("there is no section “{}”; there are {}", name.as_ref(), known.join(", "));
            self.origin.error(name, message)
        })
    }

    /// Path patterns.
    fn paths(&self, patterns: &[At<String>]) -> Result<Patterns, Failure> {
        let mut globs = Vec::new();
        for pattern in patterns {
            let text = pattern.as_ref();
            if !text.starts_with('/') && !text.starts_with('*') {
                let message = format!("“matching”: “{text}” must begin with “/”, as paths do: such as /staff/**");
                return Err(self.origin.error(pattern, message));
            }
            let glob = GlobBuilder::new(text).literal_separator(true).build();
            globs.push(glob.map_err(|why| self.origin.error(pattern, format!("“matching”: {}", why.kind())))?);
        }
        Patterns::new(globs).map_err(|why| Failure::said(why.to_string()))
    }

    /// The rules, in order; `sources` are the names of all sources.
    pub(super) fn rules(
        &self,
        typed: &ConfigFile,
        sections: &Sections,
        sources: &[String],
    ) -> Result<Vec<Rule>, Failure> {
        typed.rule.iter().map(|table| self.rule(table, sections, sources)).collect()
    }

    fn rule(&self, at: &At<RuleTable>, sections: &Sections, sources: &[String]) -> Result<Rule, Failure> {
        let table = at.as_ref();
        let conditions = self.conditions(table, sections, sources)?;
        if conditions.is_empty() {
            let message = "this rule has no conditions; matching = [\"/**\"] matches everything";
            return Err(self.origin.error(at, message));
        }
        let hints = self.hints(&table.hints(), true)?;
        if table.keep.is_none() && table.section.is_none() && hints == Hints::default() {
            let message =
                "this rule sets nothing; expected keep, section, priority, changefreq, date_policy or announce";
            return Err(self.origin.error(at, message));
        }
        Ok(Rule {
            line: self.origin.line_of(at.span().start) as u32,
            conditions,
            keep: table.keep,
            section: table.section.as_ref().map(|name| name.as_ref().clone()),
            hints,
            met: Met::default(),
        })
    }

    fn conditions(
        &self,
        table: &RuleTable,
        sections: &Sections,
        sources: &[String],
    ) -> Result<Vec<Condition>, Failure> {
        let mut all = Vec::new();
        if let Some(patterns) = &table.matching {
            all.push(Condition::Path(self.paths(patterns)?));
        }
        if let Some(names) = &table.in_section {
            names.iter().try_for_each(|name| self.known_section(sections, name).map(|_| ()))?;
            all.push(Condition::Section(names.iter().map(|name| name.as_ref().clone()).collect()));
        }
        if let Some(names) = &table.source {
            all.push(self.sources_like(names, sources)?);
        }
        all.extend(table.kind.clone().map(Condition::Kind));
        all.extend(table.id.clone().map(Condition::Id));
        all.extend(table.slug.clone().map(Condition::Slug));
        let covers = self.covers(table)?;
        for (by, names) in [(By::Category, &table.category), (By::Tag, &table.tag), (By::Author, &table.author)] {
            let slugs = names.as_ref().map(|names| names.iter().map(|name| slug(name)).collect());
            all.extend(slugs.map(|slugs| Condition::Group(by, slugs, covers)));
        }
        if let Some(pattern) = &table.title_pattern {
            all.push(Condition::Title(self.pattern("title_pattern", pattern)?));
        }
        if let Some(pattern) = &table.url_pattern {
            all.push(Condition::Url(self.pattern("url_pattern", pattern)?));
        }
        if let Some(file) = &table.listed_in {
            all.push(self.listed_in(file)?);
        }
        let number = |key: &str, number: &Option<At<i64>>, most: i64| -> Result<Option<u32>, Failure> {
            let Some(typed) = number else { return Ok(None) };
            let bounds = || self.origin.error(typed, format!("“{key}”: expected a number from 0 to {most}"));
            let within = (0..=most).contains(typed.as_ref());
            if within { Ok(Some(*typed.as_ref() as u32)) } else { Err(bounds()) }
        };
        all.extend(number("older_than_days", &table.older_than_days, 36_500)?.map(Condition::OlderThan));
        all.extend(number("newer_than_days", &table.newer_than_days, 36_500)?.map(Condition::NewerThan));
        all.extend(number("least_depth", &table.least_depth, 1000)?.map(|n| Condition::LeastDepth(n as usize)));
        all.extend(number("most_depth", &table.most_depth, 1000)?.map(|n| Condition::MostDepth(n as usize)));
        all.extend(table.with_images.map(Condition::WithImages));
        all.extend(table.with_videos.map(Condition::WithVideos));
        Ok(all)
    }

    fn sources_like(&self, names: &[At<String>], sources: &[String]) -> Result<Condition, Failure> {
        let mut places = Vec::new();
        for name in names {
            let like = sources.iter().enumerate().filter(|(_, source)| source.contains(name.as_ref().as_str()));
            let before = places.len();
            places.extend(like.map(|(at, _)| at as u16));
            if places.len() == before {
                let message = format!(
                    "“source”: there is no source whose name contains “{}”; there are {}",
                    name.as_ref(),
                    sources.join(", ")
                );
                return Err(self.origin.error(name, message));
            }
        }
        let written: Vec<&str> = names.iter().map(|name| name.as_ref().as_str()).collect();
        Ok(Condition::Source(places, written.join(" or ")))
    }

    fn covers(&self, table: &RuleTable) -> Result<Covers, Failure> {
        let Some(word) = &table.covers else { return Ok(Covers::default()) };
        if table.category.is_none() && table.tag.is_none() && table.author.is_none() {
            let message = "“covers” has no effect without category, tag or author";
            return Err(self.origin.error(word, message));
        }
        match word.as_ref().as_str() {
            "entries-and-archive-page" => Ok(Covers::EntriesAndArchivePage),
            "entries" => Ok(Covers::Entries),
            "archive-page" => Ok(Covers::ArchivePage),
            other => {
                let message = format!(
                    "“covers”: “{other}” is unknown; expected entries-and-archive-page, entries or archive-page"
                );
                Err(self.origin.error(word, message))
            }
        }
    }

    fn pattern(&self, key: &str, pattern: &At<String>) -> Result<Regex, Failure> {
        let compiled = RegexBuilder::new(pattern.as_ref()).size_limit(LARGEST_PATTERN).build();
        compiled.map_err(|why| {
            let why = why.to_string();
            let why = why.lines().last().unwrap_or("").trim_start_matches("error: ");
            self.origin.error(pattern, format!("“{key}”: “{}” is not a regular expression: {why}", pattern.as_ref()))
        })
    }

    /// Reads a file of URLs, paths and ids, one per line; `#` begins a comment.
    fn listed_in(&self, file: &At<String>) -> Result<Condition, Failure> {
        let shown = expand(self.origin, file)?;
        let text = fs::read_to_string(self.folder.join(shown.expose()))
            .map_err(|error| self.origin.error(file, format!("“listed_in”: cannot read {shown}: {error}")))?;
        let mut list = HashSet::new();
        for (at, line) in text.lines().enumerate() {
            let line = line.trim().trim_start_matches('\u{feff}');
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            if line.starts_with('/') || line.contains("://") {
                let address = self.site.address(line).map_err(|why| {
                    self.origin.error(file, format!("“listed_in”: {shown} line {}: “{line}”: {why}", at + 1))
                })?;
                list.insert(address.into_string());
            } else {
                list.insert(line.to_owned());
            }
        }
        Ok(Condition::Listed(list, shown.to_string()))
    }

    pub(super) fn archives(&self, typed: &ConfigFile, sections: &Sections) -> Result<Archives, Failure> {
        let mut archives: Vec<Archive> = Vec::new();
        for table in &typed.archive {
            let archive = self.archive(table.as_ref(), sections)?;
            if archives.iter().any(|known| known.by == archive.by && known.of == archive.of) {
                let message = format!("there are two archives by {} of the same entries", archive.by.as_str());
                return Err(self.origin.error(table, message));
            }
            archives.push(archive);
        }
        Ok(Archives::new(archives, self.timezone.clone()))
    }

    fn archive(&self, table: &ArchiveTable, sections: &Sections) -> Result<Archive, Failure> {
        let word = table.by.as_ref();
        let Some(by) = By::ALL.into_iter().find(|by| by.as_str() == word) else {
            let known: Vec<&str> = By::ALL.iter().map(|by| by.as_str()).collect();
            let message = format!("“by”: “{word}” is unknown; expected one of {}", known.join(", "));
            return Err(self.origin.error(&table.by, message));
        };
        let url = table.url.as_ref();
        let mut places = url.split('{').skip(1).map(|rest| rest.split('}').next().unwrap_or(rest));
        let wrong = places.clone().find(|name| !by.placeholders().contains(name));
        if wrong.is_some() || places.next().is_none() {
            let known: Vec<String> = by.placeholders().iter().map(|name| format!("{{{name}}}")).collect();
            let message =
                format!("“url”: expected a path with {} in it, such as /about/{}/", known.join(" or "), known[0]);
            return Err(self.origin.error(&table.url, message));
        }
        if let Some(section) = &table.section {
            self.known_section(sections, section)?;
        }
        let ascii_slugs = match table.slugs.as_ref().map(|word| (word, word.as_ref().as_str())) {
            None | Some((_, "as-written")) => false,
            Some((_, "ascii")) => true,
            Some((word, other)) => {
                let message = format!("“slugs”: “{other}” is unknown; expected as-written or ascii");
                return Err(self.origin.error(word, message));
            }
        };
        let name = |name: &Option<At<String>>| name.as_ref().map(|name| name.as_ref().clone());
        Ok(Archive {
            of: name(&table.section),
            into: name(&table.into),
            hints: self.hints(&table.hints(), true)?,
            assume_page: table.assume_page,
            ascii_slugs,
            ..Archive::new(by, url)
        })
    }

    /// Hints. A section cannot have a share of the entries.
    fn hints(&self, keys: &HintKeys<'_>, may_share: bool) -> Result<Hints, Failure> {
        let changefreq = keys.changefreq.map(|word| {
            let known = "“changefreq”: expected always, hourly, daily, weekly, monthly, yearly or never";
            word.as_ref().parse::<Changefreq>().map_err(|()| self.origin.error(word, known))
        });
        let date_policy = keys.date_policy.map(|word| {
            let known = "“date_policy”: expected usual, declared, seen or none";
            word.as_ref().parse::<DatePolicy>().map_err(|()| self.origin.error(word, known))
        });
        let priority = keys.priority.map(|typed| match typed.as_ref() {
            NumberOrWord::Number(number) => Priority::new(*number)
                .map(PriorityHint::Fixed)
                .ok_or_else(|| self.origin.error(typed, "“priority”: expected a number from 0.0 to 1.0")),
            NumberOrWord::Word(word) if word == "by-depth" => Ok(PriorityHint::ByDepth),
            NumberOrWord::Word(word) if word == "by-share" && may_share => Ok(PriorityHint::ByShare),
            NumberOrWord::Word(word) => {
                let share = if may_share { ", \"by-depth\" or \"by-share\"" } else { " or \"by-depth\"" };
                let message = format!("“priority”: “{word}” is unknown; expected a number from 0.0 to 1.0{share}");
                Err(self.origin.error(typed, message))
            }
        });
        Ok(Hints {
            changefreq: changefreq.transpose()?,
            priority: priority.transpose()?,
            date_policy: date_policy.transpose()?,
            announce: keys.announce,
        })
    }
}
