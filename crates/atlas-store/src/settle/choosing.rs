//! Counting the verdicts on the rows of one block, and collecting the entries that changed.

use atlas_core::choose::{Kept, Reason, Verdict};
use atlas_core::contribution::Contribution;
use atlas_core::derive::news::{NEWS_SECONDS, News};
use atlas_core::fingerprint;
use atlas_core::output_policy::{self, Media};
use atlas_core::placement::FileKind;
use atlas_core::{address, page};

use super::entry_rows::{EntryRow, EntryRows};
use super::fate::EntryFate;
use super::{Candidate, Counts, Gone, SectionTally, SettledBlock, SourceTally, Terms};
use crate::arrival::{Arrivals, RowFlag, RowId};
use crate::ledger::Remembered;
use crate::model::tag;
use crate::report::DueTo;
use atlas_core::announce::Change;
use atlas_core::report::Notice;

/// What joining found out about remembered entries, and what depends on their groups of translations.
#[derive(Clone, Copy)]
pub(super) struct KnownFates<'a> {
    /// The [`EntryFate`] of each.
    pub(super) fates: &'a [u8],
    /// The fingerprint of what was written for each, as far as it may be written as before.
    pub(super) written: &'a [u64],
    /// The fingerprint of what the group of a row lists, or 0.
    pub(super) group_print: &'a (dyn Fn(RowId) -> u64 + Sync),
}

impl KnownFates<'_> {
    fn is(&self, at: u32, fate: EntryFate) -> bool {
        self.fates[at as usize] == fate as u8
    }
}

/// Processes the entries of one block.
pub(super) struct Choosing<'a> {
    remembered: &'a Remembered,
    known: KnownFates<'a>,
    terms: &'a Terms<'a>,
    source: u16,
    out: SettledBlock,
}

impl<'a> Choosing<'a> {
    pub(super) fn new(
        arrivals: &'a Arrivals,
        remembered: &'a Remembered,
        known: KnownFates<'a>,
        terms: &'a Terms<'a>,
        block: usize,
    ) -> Self {
        let tallies = vec![SectionTally::default(); terms.chooser.sections.list().len()];
        let out = SettledBlock { counts: Counts { tallies, ..Counts::default() }, ..SettledBlock::default() };
        let source = arrivals.source_of(arrivals.first_of(block));
        Self { remembered, known, terms, source, out }
    }

    pub(super) fn run(mut self, entry_rows: &EntryRows, arrivals: &Arrivals, block: usize) -> SettledBlock {
        let (rows, first) = (arrivals.block(block), arrivals.first_of(block));
        let mut own = SourceTally::default();
        let mut problems = Vec::new();
        for (row, role) in entry_rows.roles_of(arrivals, block, &rows).enumerate() {
            let Some(prior) = role.prior() else { continue };
            if let Some(summaries) = rows.summaries() {
                self.row(&entry_rows.entry_row(first, row, prior, summaries[row]), &rows.row(row), &mut own);
                continue;
            }
            let row_id = RowId(first.0 + row as u32);
            if prior.is_some_and(|at| self.known.is(at, EntryFate::Untouched)) && (self.known.group_print)(row_id) == 0
            {
                own.count(true);
                continue;
            }
            let read = rows.read(row, &mut |problem| problems.push(problem));
            if read.as_ref().is_none_or(|(summary, _)| summary.raw == 0 || summary.kept().is_none()) {
                self.out.doubtful.push(row_id);
            }
            match read {
                Some((summary, bytes)) => self.row(&entry_rows.entry_row(first, row, prior, summary), &bytes, &mut own),
                None => self.gone(prior, Some(Change::Removed), None),
            }
        }
        if own.kept + own.left_out > 0 {
            self.out.counts.source(self.source).join(own);
        }
        self.out.problems.extend(problems.into_iter().map(|problem| (self.source, problem)));
        self.out
    }

    fn row(&mut self, entry_row: &EntryRow<'_>, row: &[u8], own: &mut SourceTally) {
        let goes_in = entry_row.summary.kept().is_some();
        match entry_row.origin {
            None => own.count(goes_in),
            Some(origin) => origin.sources.iter().for_each(|source| self.out.counts.source(*source).count(goes_in)),
        }
        match entry_row.summary.verdict {
            Verdict::LeftOut(reason) => self.left_out(&Contribution::read(row), reason, entry_row),
            Verdict::Kept(kept) => self.kept(row, kept, entry_row),
        }
    }

    fn left_out(&mut self, contribution: &Contribution<'_>, reason: Reason, entry_row: &EntryRow<'_>) {
        let named = entry_row.named();
        self.out.left_out.push((tag(entry_row.summary.key()), reason));
        let (most, url) = (self.terms.telling.examples, || contribution.url.to_string());
        self.out.counts.left_out.entry(reason).or_default().add(most, named, url);
        let origin = address::origin(&contribution.url);
        if reason == Reason::OtherHost
            && origin != self.terms.chooser.site.root().origin()
            && self.terms.telling.wants(Notice::Elsewhere, &contribution.url)
        {
            self.out.counts.remarks.elsewhere.entry(origin.to_owned()).or_default().add(most, named, url);
        }
        let misspelt = contribution.canonical.as_deref().filter(|_| reason == Reason::CanonicalElsewhere);
        let misspelt = misspelt
            .filter(|canonical| self.terms.chooser.site.respelt(canonical).as_deref() == Some(&contribution.url));
        if let Some(canonical) =
            misspelt.filter(|_| self.terms.telling.wants(Notice::CanonicalMisspelt, &contribution.url))
        {
            let example = || format!("{}\nnames {canonical}", contribution.url);
            self.out.counts.remarks.of(Notice::CanonicalMisspelt).add(most, named, example);
        }
        if reason == Reason::NoArchivePage && self.terms.telling.wants(Notice::NoArchivePage, &contribution.url) {
            self.out.counts.remarks.of(Notice::NoArchivePage).add(most, named, url);
        }
        if let (Reason::Scheduled, Some(published)) = (reason, contribution.published) {
            self.out.counts.due.add(published, &contribution.url, DueTo::GoIn);
        }
        self.gone(entry_row.prior, change_for(reason), Some(reason));
    }

    /// Counts an entry that is left out. If the ledger remembers it, it is gone.
    fn gone(&mut self, prior: Option<u32>, change: Option<Change>, reason: Option<Reason>) {
        self.out.gone.extend(prior.map(|prior| Gone { prior, change, reason }));
    }

    fn kept(&mut self, row: &[u8], kept: Kept, entry_row: &EntryRow<'_>) {
        let &EntryRow { row_id, summary, prior, .. } = entry_row;
        let observed = prior.filter(|_| summary.has(RowFlag::SeenDate)).and_then(|at| self.remembered.observed(at));
        let date = match observed {
            None => summary.date,
            observed => output_policy::lastmod(
                &Contribution::read(row),
                observed,
                kept.date_policy,
                &self.terms.chooser.calendar,
            ),
        };
        let tally = &mut self.out.counts.tallies[usize::from(kept.section)];
        tally.entries += 1;
        tally.added += u64::from(prior.is_none());
        tally.images += u64::from(summary.images);
        tally.videos += u64::from(summary.videos);
        tally.news += u64::from(summary.own_files().any(|kind| kind == FileKind::News));
        tally.newest(date);
        self.out.counts.speakers += u64::from(summary.has(RowFlag::SpeaksOfOthers));
        if summary.has(RowFlag::Odd) {
            self.odd(&Contribution::read(row), kept, entry_row);
        }
        match prior {
            None => self
                .out
                .counts
                .added
                .add(self.terms.telling.examples, entry_row.named(), || Contribution::read(row).url.into_owned()),
            Some(at) => self.compare(at, Candidate::of_page(&summary, kept, row_id, entry_row.named(), prior)),
        }
        let is_news = summary.own_files().any(|kind| kind == FileKind::News);
        let has_news = self.terms.policy.of(usize::from(kept.section)).news.is_some();
        if has_news && !is_news && News::is_article(&Contribution::read(row)) {
            self.out.latest.add(Candidate::of_old_news(&summary, kept, row_id, entry_row.named()));
        }
        if let Some(published) = is_news.then(|| Contribution::read(row).published).flatten() {
            let until = self.terms.chooser.calendar.start(&published) + NEWS_SECONDS;
            self.out.news_until = self.out.news_until.into_iter().chain([until]).min();
        }
        let kinds = summary.own_files();
        let candidates = kinds.map(|kind| Candidate::of_kind(&summary, kept, row_id, entry_row.named(), kind));
        self.out.own_files.extend(candidates);
    }

    /// Makes an entry that the ledger knows a candidate, unless it is written as before.
    fn compare(&mut self, at: u32, candidate: Candidate) {
        let print = (self.known.group_print)(candidate.row_id);
        let fate = if print == 0 {
            if self.known.is(at, EntryFate::Same) { EntryFate::Same } else { EntryFate::Met }
        } else {
            let observed = self.remembered.observed(at);
            let written = fingerprint::written(candidate.decided, self.terms.settings, observed, print);
            if written == self.known.written[at as usize] { EntryFate::Same } else { EntryFate::Met }
        };
        if !self.known.is(at, fate) {
            self.out.fates.push((at, fate));
        }
        if fate == EntryFate::Met {
            self.out.candidates.push(candidate);
        }
    }

    /// Collects remarks on a kept entry.
    fn odd(&mut self, contribution: &Contribution<'_>, kept: Kept, entry_row: &EntryRow<'_>) {
        let Terms { telling, chooser, .. } = self.terms;
        let mut tell = |notice: Notice, detail: &dyn Fn() -> String| {
            if telling.wants(notice, &contribution.url) {
                let sample = self.out.counts.remarks.of(notice);
                sample.add(telling.examples, entry_row.named(), || format!("{}{}", contribution.url, detail()));
            }
        };
        if contribution.no_head {
            tell(Notice::NoHead, &String::new);
        }
        if let Some(date) = contribution.modified.filter(|date| !chooser.calendar.may_be_written(date)) {
            tell(Notice::DateNotWritten, &|| format!("\n{date}"));
        }
        let section = contribution.own_section.as_deref();
        if let Some(section) = section.filter(|name| chooser.sections.named(name).is_none()) {
            tell(Notice::UnknownSection, &|| format!("\n“{section}”"));
        }
        let written = self.terms.policy.of(usize::from(kept.section)).videos != Media::Off;
        if let Some(player) = contribution.unknown_players.first().filter(|_| written) {
            tell(Notice::UnknownPlayer, &|| format!("\n{}", page::player_entry(player)));
        }
        for video in contribution.videos.iter().filter(|_| written) {
            let lacks = video.lacks(&contribution.url);
            if !lacks.is_empty() {
                let names: Vec<&str> = lacks.iter().map(|part| part.words()).collect();
                tell(Notice::VideoNotWritten, &|| format!("\nno {}", names.join(", no ")));
            }
        }
        if let Some(expires) = contribution.expires {
            self.out.counts.due.add(expires, &contribution.url, DueTo::Leave);
        }
    }
}

/// What engines are told about an entry that leaves for this reason. They are told what the page itself or its server
/// says. What the user chose to leave out is nobody else's business.
fn change_for(reason: Reason) -> Option<Change> {
    match reason {
        Reason::Redirect => Some(Change::Redirected),
        Reason::NoPage | Reason::Noindex | Reason::CanonicalElsewhere | Reason::Gone | Reason::Expired => {
            Some(Change::Removed)
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::its_page_is_gone(Reason::NoPage, Some(Change::Removed))]
    #[case::its_row_says_so(Reason::Gone, Some(Change::Removed))]
    #[case::its_page_forbids_it(Reason::Noindex, Some(Change::Removed))]
    #[case::its_page_names_another(Reason::CanonicalElsewhere, Some(Change::Removed))]
    #[case::it_is_over(Reason::Expired, Some(Change::Removed))]
    #[case::it_moved(Reason::Redirect, Some(Change::Redirected))]
    #[case::the_user_keeps_it_out(Reason::Rule, None)]
    #[case::the_server_is_in_trouble(Reason::ServerError, None)]
    #[case::it_is_a_draft(Reason::Draft, None)]
    #[case::robots_txt_keeps_it_out(Reason::Disallowed, None)]
    fn changes_on_the_page_itself_are_announced(#[case] reason: Reason, #[case] wanted: Option<Change>) {
        assert_eq!(change_for(reason), wanted);
    }
}
