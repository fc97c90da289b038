//! Dividing the list for visitors into pages.

use super::rank::{SectionLine, SectionOrder};

/// The names of a section.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Label {
    /// Its name in file names.
    pub name: String,
    /// The name that visitors see.
    pub title: String,
}

/// One section, in the order in which it is shown.
#[derive(Debug)]
pub(super) struct SectionList<'a> {
    pub(super) label: Label,
    pub(super) order: SectionOrder,
    pub(super) items: Vec<SectionLine<'a>>,
}

/// The contents of one page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum PageContent {
    /// Everything.
    Whole,
    /// The sections, with links to their pages.
    Front,
    /// Some lines of one section.
    SectionPart(SectionPart),
}

/// Some lines of one section, on a page of their own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct SectionPart {
    /// The index of the section.
    pub(super) section: usize,
    /// The part of the file name after the section: `2026-11`, `2`.
    pub(super) mark: String,
    /// The first line, and the line after the last.
    pub(super) first: usize,
    pub(super) end: usize,
    /// The year of these lines, and the month if the year has several pages.
    pub(super) time: Option<(i16, Option<i8>)>,
}

impl SectionPart {
    pub(super) fn year(&self) -> Option<i16> {
        self.time.map(|(year, _)| year)
    }
}

impl SectionList<'_> {
    /// Divides the section into pages of at most `most` lines: by year, by month if a year has too many, else by
    /// number.
    pub(super) fn parts(&self, section: usize, most: usize) -> Vec<SectionPart> {
        let mut parts = Vec::new();
        let mut numbered = |first: usize, end: usize, mark: &str, time: Option<(i16, Option<i8>)>| {
            let starts: Vec<usize> = (first..end).step_by(most).collect();
            for (at, start) in starts.iter().enumerate() {
                let mark = match (mark, starts.len()) {
                    ("", _) => (at + 1).to_string(),
                    (mark, 1) => mark.to_owned(),
                    (mark, _) => format!("{mark}-{}", at + 1),
                };
                parts.push(SectionPart { section, mark, first: *start, end: (start + most).min(end), time });
            }
        };
        if self.order != SectionOrder::Newest {
            numbered(0, self.items.len(), "", None);
            return parts;
        }
        let mut first = 0;
        for of_year in self.items.chunk_by(|one, other| SectionLine::year_of(one) == SectionLine::year_of(other)) {
            let end = first + of_year.len();
            match SectionLine::year_of(&of_year[0]) {
                None => numbered(first, end, "undated", None),
                Some(year) if of_year.len() <= most => numbered(first, end, &year.to_string(), Some((year, None))),
                Some(year) => {
                    for of_month in of_year.chunk_by(|one, other| one.month == other.month) {
                        let month = of_month[0].month.map(|(_, month)| month);
                        let mark = format!("{year}-{:02}", month.unwrap_or_default());
                        numbered(first, first + of_month.len(), &mark, Some((year, month)));
                        first += of_month.len();
                    }
                }
            }
            first = end;
        }
        parts
    }
}

impl SectionLine<'_> {
    pub(super) fn year_of(&self) -> Option<i16> {
        self.month.map(|(year, _)| year)
    }
}
