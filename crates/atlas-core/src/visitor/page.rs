//! The visitor page (HTML sitemap): all entries by section and folder, under their titles, on one page or on several if
//! there are many.

use super::parts::{Label, PageContent, SectionList, SectionPart};
use super::rank::{ByFolder, Folders, SectionLine, SectionOrder, ranked};
use super::template::{PageTemplate, STYLE};
use super::{VisitorLine, escaped};
use crate::number::grouped;
use crate::placement::{CHILD_PREFIX, VISITOR_PAGE};

/// The longest name in the title of a page, in characters.
const LONGEST_NAME: usize = 40;
const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];
/// Everything that visitors see, divided into pages.
#[derive(Debug)]
pub struct Visitors<'a> {
    sections: Vec<SectionList<'a>>,
    /// The pages of folders, by path.
    folders: ByFolder<'a, SectionLine<'a>>,
    pages: Vec<PageContent>,
    title: &'a str,
    language: &'a str,
    template: &'a PageTemplate,
    all: usize,
}

impl<'a> Visitors<'a> {
    /// Divides sections, each with its lines, into pages of at most `entries_per_page`.
    pub fn new(
        sections: Vec<(Label, Vec<&'a VisitorLine<'a>>)>,
        entries_per_page: usize,
        title: &'a str,
        language: &'a str,
        template: &'a PageTemplate,
    ) -> Self {
        let all: usize = sections.iter().map(|(_, lines)| lines.len()).sum();
        let most = entries_per_page.max(1);
        let mut all_folders = Folders::default();
        let sections = sections.into_iter().filter(|(_, lines)| !lines.is_empty()).map(|(label, lines)| {
            let order = SectionOrder::of(&lines, all <= most);
            let (items, folders) = ranked(&lines, order);
            all_folders.join(folders);
            SectionList { label, order, items }
        });
        let sections: Vec<SectionList<'a>> = sections.collect();
        let items = sections.iter().flat_map(|section| &section.items);
        let leading = items.filter(|item| all_folders.holds(item.line.path));
        let folders = leading.map(|item| (item.line.path, *item)).collect();
        let mut pages = vec![if all <= most { PageContent::Whole } else { PageContent::Front }];
        if all > most {
            let parts = sections.iter().enumerate().flat_map(|(at, section)| section.parts(at, most));
            pages.extend(parts.map(PageContent::SectionPart));
        }
        Self { sections, folders, pages, title, language, template, all }
    }

    /// The names of all pages, starting with the first.
    pub fn names(&self) -> Vec<String> {
        self.pages.iter().map(|cut| self.name(cut)).collect()
    }

    fn name(&self, cut: &PageContent) -> String {
        match cut {
            PageContent::Whole | PageContent::Front => VISITOR_PAGE.to_owned(),
            PageContent::SectionPart(part) => self.part_name(part),
        }
    }

    fn part_name(&self, part: &SectionPart) -> String {
        format!("{CHILD_PREFIX}{}-{}.html", self.sections[part.section].label.name, part.mark)
    }

    /// The HTML of the page with this index in [`Visitors::names`].
    pub fn page(&self, at: usize) -> String {
        let (title, navigation, content) = match &self.pages[at] {
            PageContent::Whole => (self.title.to_owned(), self.summary() + &self.jumps(), self.whole()),
            PageContent::Front => (self.title.to_owned(), self.summary(), self.front()),
            PageContent::SectionPart(part) => {
                let section = &self.sections[part.section];
                let items = &section.items[part.first..part.end];
                let content = match section.order {
                    SectionOrder::Newest => {
                        self.by_time(items, "h2", |item| item.month.map(|(year, month)| (year, Some(month))))
                    }
                    SectionOrder::Name | SectionOrder::Folder => self.list(items),
                };
                (self.part_title(part), self.steps(at), content)
            }
        };
        let (title, language) = (escaped(&title), escaped(self.language));
        let values = [title.as_ref(), language.as_ref(), STYLE, navigation.as_str(), content.as_str()];
        self.template.fill(values)
    }

    fn part_title(&self, part: &SectionPart) -> String {
        let title = &self.sections[part.section].label.title;
        match part.time {
            Some(time) => format!("{title}, {}", self.time(time)),
            None if self.parts_of(part.section).count() > 1 => format!("{title}, {}", self.range(part)),
            None => title.to_owned(),
        }
    }

    /// The first and the last name on a page.
    fn range(&self, part: &SectionPart) -> String {
        let items = &self.sections[part.section].items[part.first..part.end];
        let name = |item: Option<&SectionLine<'_>>| {
            let name = item.map_or("", SectionLine::name);
            let short: String = name.chars().take(LONGEST_NAME).collect();
            if short.len() < name.len() { short.trim_end().to_owned() + "…" } else { short }
        };
        match items {
            [only] => name(Some(only)),
            items => format!("{} … {}", name(items.first()), name(items.last())),
        }
    }

    /// A year, or a month with its name if the page is in English.
    fn time(&self, (year, month): (i16, Option<i8>)) -> String {
        match month {
            None => year.to_string(),
            Some(month) if self.is_english() => format!("{} {year}", MONTHS[(month.clamp(1, 12) - 1) as usize]),
            Some(month) => format!("{year}-{month:02}"),
        }
    }

    /// The heading for entries without a date and pages that list others, in a section sorted by date.
    fn others(&self) -> &'static str {
        if self.is_english() { "Others" } else { "–" }
    }

    fn is_english(&self) -> bool {
        self.language == "en" || self.language.starts_with("en-")
    }

    fn parts_of(&self, wanted: usize) -> impl Iterator<Item = &SectionPart> {
        self.pages.iter().filter_map(move |cut| match cut {
            PageContent::SectionPart(part) if part.section == wanted => Some(part),
            _ => None,
        })
    }

    fn summary(&self) -> String {
        let pages = if self.all == 1 { "page" } else { "pages" };
        format!("<p class=\"summary\">{} {pages}</p>\n", grouped(self.all as u64))
    }

    /// Links to the sections further down.
    fn jumps(&self) -> String {
        if self.sections.len() < 2 {
            return String::new();
        }
        let mut out = String::from("<nav aria-label=\"Sections\">\n<ul>\n");
        for SectionList { label, items, .. } in &self.sections {
            out += &format!(
                "<li><a href=\"#{}\">{}</a> <span class=\"count\">{}</span></li>\n",
                label.name,
                escaped(&label.title),
                grouped(items.len() as u64)
            );
        }
        out + "</ul>\n</nav>\n"
    }

    /// Links to the first, previous and next page.
    fn steps(&self, at: usize) -> String {
        let link = |page: usize, rel: &str, words: &str| {
            format!("<li><a href=\"{}\"{rel}>{}</a></li>\n", self.name(&self.pages[page]), escaped(words))
        };
        let name = |page: usize| match self.pages.get(page) {
            Some(PageContent::SectionPart(part)) => Some(self.part_title(part)),
            _ => None,
        };
        let mut out = String::from("<nav aria-label=\"Pages\">\n<ul>\n");
        out += &link(0, "", self.title);
        if let Some(before) = name(at - 1) {
            out += &link(at - 1, " rel=\"prev\"", &format!("← {before}"));
        }
        if let Some(after) = name(at + 1) {
            out += &link(at + 1, " rel=\"next\"", &format!("{after} →"));
        }
        out + "</ul>\n</nav>\n"
    }

    fn whole(&self) -> String {
        let mut out = String::new();
        for SectionList { label, items, order } in &self.sections {
            let list = match order {
                SectionOrder::Newest => self.by_time(items, "h3", |item| item.month.map(|(year, _)| (year, None))),
                SectionOrder::Folder | SectionOrder::Name => self.folders(items, "h3"),
            };
            out += &format!(
                "<section id=\"{}\">\n<h2>{} <span class=\"count\">{}</span></h2>\n{list}</section>\n",
                label.name,
                escaped(&label.title),
                grouped(items.len() as u64),
            );
        }
        out
    }

    /// The sections with links to their pages. A year with several pages gets a line of its own.
    fn front(&self) -> String {
        let mut out = String::new();
        for (section, SectionList { label, items, .. }) in self.sections.iter().enumerate() {
            out += &format!("<h2>{} {}</h2>\n", escaped(&label.title), counted(items.len()));
            let parts: Vec<&SectionPart> = self.parts_of(section).collect();
            if !parts.iter().any(|part| part.time.is_some_and(|(_, month)| month.is_some())) {
                out += &self.links(&parts);
                continue;
            }
            for of_year in parts.chunk_by(|one, other| one.year() == other.year()) {
                match (of_year[0].time, of_year) {
                    (Some((year, Some(_))), months) => {
                        let number = months.iter().map(|part| part.end - part.first).sum();
                        out += &format!("<h3>{year} {}</h3>\n{}", counted(number), self.links(months));
                    }
                    (Some((year, None)), [part]) => {
                        let number = counted(part.end - part.first);
                        out += &format!("<h3><a href=\"{}\">{year}</a> {number}</h3>\n", self.part_name(part));
                    }
                    (_, others) => {
                        let number = others.iter().map(|part| part.end - part.first).sum();
                        out += &format!("<h3>{} {}</h3>\n{}", self.others(), counted(number), self.links(others));
                    }
                }
            }
        }
        out
    }

    /// A list of links to pages.
    fn links(&self, parts: &[&SectionPart]) -> String {
        let link = |part: &&SectionPart| {
            let words = match part.time {
                Some((_, Some(month))) if self.is_english() => MONTHS[(month.clamp(1, 12) - 1) as usize].to_owned(),
                Some(time) => self.time(time),
                None => self.range(part),
            };
            let number = counted(part.end - part.first);
            format!("<li><a href=\"{}\">{}</a> {number}</li>\n", self.part_name(part), escaped(&words))
        };
        format!("<ul>\n{}</ul>\n", parts.iter().map(link).collect::<String>())
    }

    /// Lists by year or month, newest first. Entries without a date and pages that list others come at the end.
    fn by_time(
        &self,
        items: &[SectionLine<'_>],
        heading: &str,
        time: impl Fn(&SectionLine<'_>) -> Option<(i16, Option<i8>)>,
    ) -> String {
        let groups: Vec<&[SectionLine<'_>]> = items.chunk_by(|one, other| time(one) == time(other)).collect();
        let mut out = String::new();
        for group in &groups {
            let words = match time(&group[0]) {
                Some(time) => self.time(time),
                None => self.others().to_owned(),
            };
            if groups.len() > 1 {
                out += &format!(
                    "<{heading}>{words} <span class=\"count\">{}</span></{heading}>\n",
                    grouped(group.len() as u64)
                );
            }
            out += &self.list(group);
        }
        out
    }

    fn list(&self, items: &[SectionLine<'_>]) -> String {
        let mut out = String::from("<ul>\n");
        for item in items {
            out += "<li>";
            self.link(item, &mut out);
            out += "</li>\n";
        }
        out + "</ul>\n"
    }

    fn link(&self, item: &SectionLine<'_>, out: &mut String) {
        let main = |language: &str| language.split('-').next().unwrap_or("").to_ascii_lowercase();
        *out += "<a href=\"";
        *out += &escaped(item.line.url);
        *out += "\"";
        if let Some(language) = item.line.language.filter(|language| main(language) != main(self.language)) {
            *out += &format!(" lang=\"{}\"", escaped(language));
        }
        *out += ">";
        *out += &escaped(item.name());
        *out += "</a>";
    }

    /// Lists of lines, folder by folder, with a heading for each if there are several.
    fn folders(&self, items: &[SectionLine<'_>], heading: &str) -> String {
        let mut out = String::new();
        let groups: Vec<&[SectionLine<'_>]> = items.chunk_by(|one, other| one.folder() == other.folder()).collect();
        for group in &groups {
            let folder = group[0].folder();
            let (lead, rest) = match group {
                [lead, rest @ ..] if lead.leads && groups.len() > 1 => (Some(lead), rest),
                all => (None, *all),
            };
            // A group without a name comes first, directly below its section.
            if groups.len() > 1 && (folder != "/" || lead.is_some()) {
                out += &format!("<{heading}>");
                match (lead, self.folders.get(folder)) {
                    (Some(lead), _) => self.link(lead, &mut out),
                    (None, Some(item)) => out += &escaped(item.name()),
                    (None, None) => out += &escaped(folder),
                }
                out += &format!(" <span class=\"count\">{}</span></{heading}>\n", grouped(group.len() as u64));
            }
            if !rest.is_empty() {
                out += &self.list(rest);
            }
        }
        out
    }
}

/// A number of entries, for use after a heading or a link.
fn counted(number: usize) -> String {
    format!("<span class=\"count\">{}</span>", grouped(number as u64))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::super::tests::line;
    use super::*;
    use crate::lastmod::Lastmod;

    fn label(name: &str) -> Label {
        Label { name: name.into(), title: name.to_uppercase() }
    }

    fn lines(urls: &[String]) -> Vec<VisitorLine<'_>> {
        urls.iter().map(|url| line(url, Some("A <lamp>"))).collect()
    }

    fn visitors<'a>(lines: &'a [VisitorLine<'a>], most: usize, template: &'a PageTemplate) -> Visitors<'a> {
        let part = |first: usize| lines.iter().skip(first).step_by(2).collect::<Vec<_>>();
        let sections = vec![(label("pages"), part(0)), (label("journal"), part(1)), (label("empty"), vec![])];
        Visitors::new(sections, most, "All of it", "en", template)
    }

    #[test]
    fn one_page_by_section_and_folder_with_titles() {
        let urls = ["/", "/journal/", "/journal/frost/", "/journal/thaw/?a=1&b=2", "/fares/"]
            .map(|path| format!("https://www.marrowvale.example{path}"));
        let template = PageTemplate::default();
        let lines = lines(&urls);
        let visitors = visitors(&lines, 100, &template);
        assert_eq!(visitors.names(), ["atlas.html"]);
        let page = visitors.page(0);
        for wanted in [
            "<html lang=\"en\">",
            "<meta name=\"idle-atlas\" content=\"keep=no\">",
            "<h2>PAGES <span class=\"count\">3</span></h2>",
            "<a href=\"#journal\">JOURNAL</a> <span class=\"count\">2</span>",
            "<a href=\"https://www.marrowvale.example/journal/thaw/?a=1&amp;b=2\">A &lt;lamp&gt;</a>",
            "5 pages",
        ] {
            assert!(page.contains(wanted), "{wanted} is not in\n{page}");
        }
        assert!(!page.contains("{{") && !page.contains("EMPTY") && !page.contains("<script"), "{page}");
    }

    proptest! {
        #[test]
        fn every_entry_stands_on_exactly_one_page(number in 1usize..60, most in 1usize..20) {
            let urls: Vec<String> =
                (0..number).map(|at| format!("https://www.marrowvale.example/{}/{at}/", at % 3)).collect();
            let template = PageTemplate::default();
            let lines = lines(&urls);
            let visitors = visitors(&lines, most, &template);
            let names = visitors.names();
            let pages: Vec<String> = (0..names.len()).map(|at| visitors.page(at)).collect();
            for url in &urls {
                let on = pages.iter().filter(|page| page.contains(&format!("href=\"{url}\""))).count();
                prop_assert_eq!(on, 1);
            }
            for page in &pages {
                prop_assert!(page.matches("href=\"https").count() <= most);
                for link in page.split("href=\"atlas").skip(1).filter_map(|rest| rest.split('"').next()) {
                    prop_assert!(names.contains(&format!("atlas{link}")), "{} leads nowhere", link);
                }
            }
        }
    }

    /// A newspaper: five articles in each of the last months of 2025 and the first of 2026.
    fn newspaper(urls: &[String]) -> Vec<VisitorLine<'_>> {
        let published = |at: usize| Lastmod::from_epoch_day(20_400 + 6 * at as i32);
        urls.iter().enumerate().map(|(at, url)| VisitorLine { published: published(at), ..line(url, None) }).collect()
    }

    #[test]
    fn dated_sections_have_years_and_months_as_steps() {
        let urls: Vec<String> = (0..24).map(|at| format!("https://www.marrowvale.example/news/{at}/")).collect();
        let template = PageTemplate::default();
        let lines = newspaper(&urls);
        let of = |most: usize| {
            let sections = vec![(label("news"), lines.iter().collect())];
            let visitors = Visitors::new(sections, most, "All of it", "en-GB", &template);
            (visitors.names(), (0..visitors.names().len()).map(|at| visitors.page(at)).collect::<Vec<_>>())
        };
        let (names, pages) = of(100);
        assert_eq!(names, ["atlas.html"]);
        let place = |text: &str| pages[0].find(text).unwrap_or_else(|| panic!("{text} is not in\n{}", pages[0]));
        assert!(place("<h3>2026 ") < place("/news/23/") && place("/news/23/") < place("<h3>2025 "));
        let (names, pages) = of(15);
        assert_eq!(names, ["atlas.html", "atlas-news-2026.html", "atlas-news-2025.html"]);
        assert!(pages[0].contains("<a href=\"atlas-news-2026.html\">2026</a>"), "{}", pages[0]);
        assert!(pages[1].contains("<h2>March 2026 ") && pages[1].contains("<title>NEWS, 2026</title>"), "{}", pages[1]);
        let (names, pages) = of(5);
        assert_eq!(names[1], "atlas-news-2026-03.html");
        assert!(pages[0].contains("<h3>2026 ") && pages[0].contains(">November</a>"), "{}", pages[0]);
        assert_eq!(of(2).0.iter().filter(|name| name.starts_with("atlas-news-2026-01-")).count(), 3);
    }

    #[rstest]
    #[case("<ul>{{content}}</ul>", None)]
    #[case("<b>{{ title }}</b>{{content}}", None)]
    #[case("<ul></ul>", Some("there is no {{content}}"))]
    #[case("{{content}}{{footer}}", Some("{{footer}} is unknown"))]
    #[case("{{content}}{{", Some("is unknown"))]
    fn templates(#[case] text: &str, #[case] wanted: Option<&str>) {
        let why = PageTemplate::parse(text).err().map(|why| why.to_string());
        assert_eq!(why.is_some(), wanted.is_some(), "{why:?}");
        assert!(why.unwrap_or_default().contains(wanted.unwrap_or("")));
    }
}
