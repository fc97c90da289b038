//! The page for visitors (HTML sitemap): all entries by section and folder, by their titles, on one page or, where there are
//! many, on several.

use std::cmp::Ordering;
use std::collections::HashMap;

use foldhash::fast::FixedState;
use thiserror::Error;

use super::{Line, Rank, escaped, grouped};

/// The name of the page in the web root, and of the first of several.
pub const VISITOR_PAGE: &str = "atlas.html";

/// What stands between a page's own title and the name of its site.
const SIGNS: [&str; 5] = [" · ", " | ", " – ", " — ", " - "];

const STYLE: &str = include_str!("visitor.css");
const USUAL: &str = include_str!("visitor.html");

/// The HTML around what is listed. In it, `{{title}}`, `{{language}}`, `{{style}}`, `{{navigation}}` and `{{content}}` are
/// replaced.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template(String);

/// Why a text is no template.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TemplateError {
    /// There is nowhere for the list itself.
    #[error("there is no {{{{content}}}} in it: that is where the list goes")]
    NoContent,
    /// It has a placeholder that is not known.
    #[error(
        "{{{{{0}}}}} is unknown; known are title, language, style, navigation and content, each between {{{{ and }}}}"
    )]
    Unknown(String),
}

const PLACEHOLDERS: [&str; 5] = ["title", "language", "style", "navigation", "content"];

impl Default for Template {
    fn default() -> Self {
        Self(USUAL.to_owned())
    }
}

impl Template {
    /// Takes a template of the site's own.
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let mut has_content = false;
        for part in text.split("{{").skip(1) {
            let name = part.split_once("}}").map_or("", |(name, _)| name.trim());
            if !PLACEHOLDERS.contains(&name) {
                return Err(TemplateError::Unknown(name.chars().take(40).collect()));
            }
            has_content |= name == "content";
        }
        if has_content { Ok(Self(text.to_owned())) } else { Err(TemplateError::NoContent) }
    }

    fn fill(&self, values: [&str; 5]) -> String {
        let mut parts = self.0.split("{{");
        let mut out = parts.next().unwrap_or("").to_owned();
        for part in parts {
            let (name, after) = part.split_once("}}").unwrap_or((part, ""));
            let at = PLACEHOLDERS.iter().position(|known| *known == name.trim());
            out += at.map_or("", |at| values[at]);
            out += after;
        }
        out
    }
}

/// What a section is called.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Label {
    /// Its name, which goes into file names.
    pub name: String,
    /// Its name for visitors.
    pub title: String,
}

/// What is found by folder. There are many lines to ask for, and the folders are the site's own: a quick hash will do.
type ByFolder<'a, T> = HashMap<&'a str, T, FixedState>;

/// All that visitors are shown, cut into pages.
#[derive(Debug)]
pub struct Visitors<'a> {
    sections: Vec<(Label, Vec<Line<'a>>)>,
    folders: ByFolder<'a, Line<'a>>,
    pages: Vec<Cut>,
    title: &'a str,
    language: &'a str,
    template: &'a Template,
    all: usize,
}

/// Takes from the titles of a section what most of them end with after a sign: the name of the site or of the section.
fn without_site_name(lines: &mut [Line<'_>]) {
    fn ending(title: &str) -> Option<(&str, &str)> {
        // Every sign begins with a space.
        let sign_at = |at: usize| SIGNS.iter().find(|sign| title[at..].starts_with(**sign));
        let (at, sign) = memchr::memrchr_iter(b' ', title.as_bytes()).find_map(|at| Some((at, sign_at(at)?)))?;
        Some((&title[..at], &title[at + sign.len()..]))
    }
    let mut endings: HashMap<&str, usize> = HashMap::new();
    for (_, ending) in lines.iter().filter_map(|line| ending(line.title?)) {
        *endings.entry(ending).or_default() += 1;
    }
    let most = endings.into_iter().max_by_key(|(ending, count)| (*count, *ending));
    let Some((common, _)) = most.filter(|(_, count)| *count >= 3 && count * 2 > lines.len()) else { return };
    for line in lines {
        if let Some((title, _)) =
            line.title.and_then(ending).filter(|(title, end)| *end == common && !title.trim().is_empty())
        {
            line.title = Some(title.trim());
        }
    }
}

/// The order in which the lines of a section are shown, and which of them lead a folder: the page of a folder leads what lies in it.
fn ranked(lines: &mut [Line<'_>], sort: impl Fn(&mut [Rank], &(dyn Fn(&Rank, &Rank) -> Ordering + Sync))) -> Vec<Rank> {
    let mut folders = ByFolder::default();
    lines.iter().for_each(|line| _ = folders.insert(line.folder(), 0));
    lines.iter_mut().for_each(|line| line.leads = folders.contains_key(line.path));
    let mut names: Vec<&str> = folders.keys().copied().collect();
    names.sort_unstable();
    names.iter().zip(0..).for_each(|(name, place)| _ = folders.insert(name, place));
    let folder = |line: &Line<'_>| folders.get(line.folder()).copied().unwrap_or_default();
    let mut ranks: Vec<Rank> = lines.iter().zip(0..).map(|(line, at)| Rank::of(line, folder(line), at)).collect();
    sort(&mut ranks, &|one, other| one.order(other, lines));
    ranks
}

/// What is on one page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Cut {
    /// Everything.
    Whole,
    /// The sections, each with its pages.
    Front,
    /// Some lines of one section: its place, the number of the page in it, the first line and the line after the last.
    Part { section: usize, number: usize, first: usize, end: usize },
}

impl<'a> Visitors<'a> {
    /// Cuts sections into pages of at most `links_per_page`; `sort` sorts, by an order in which no two are alike.
    pub fn new(
        mut sections: Vec<(Label, Vec<Line<'a>>)>,
        sort: impl Fn(&mut [Rank], &(dyn Fn(&Rank, &Rank) -> Ordering + Sync)),
        links_per_page: usize,
        title: &'a str,
        language: &'a str,
        template: &'a Template,
    ) -> Self {
        sections.retain(|(_, lines)| !lines.is_empty());
        let mut all_folders = ByFolder::default();
        for (_, lines) in &mut sections {
            without_site_name(lines);
            let ranked = ranked(lines, &sort);
            *lines = ranked.iter().map(|rank| lines[rank.at as usize]).collect();
            lines.iter().for_each(|line| _ = all_folders.insert(line.folder(), ()));
        }
        let lines = sections.iter().flat_map(|(_, lines)| lines);
        let folders = lines.filter(|line| all_folders.contains_key(line.path)).map(|line| (line.path, *line)).collect();
        let all = sections.iter().map(|(_, lines)| lines.len()).sum();
        let most = links_per_page.max(1);
        let mut pages = vec![if all <= most { Cut::Whole } else { Cut::Front }];
        if all > most {
            for (section, (_, lines)) in sections.iter().enumerate() {
                let starts = (0..lines.len()).step_by(most).enumerate();
                pages.extend(starts.map(|(at, first)| {
                    let end = (first + most).min(lines.len());
                    Cut::Part { section, number: at + 1, first, end }
                }));
            }
        }
        Self { sections, folders, pages, title, language, template, all }
    }

    /// The names of all pages, the first one first.
    pub fn names(&self) -> Vec<String> {
        self.pages.iter().map(|cut| self.name(*cut)).collect()
    }

    fn name(&self, cut: Cut) -> String {
        match cut {
            Cut::Whole | Cut::Front => VISITOR_PAGE.to_owned(),
            Cut::Part { section, number, .. } => format!("atlas-{}-{number}.html", self.sections[section].0.name),
        }
    }

    /// The HTML of the page at a place in [`Visitors::names`].
    pub fn page(&self, at: usize) -> String {
        let (title, navigation, content) = match self.pages[at] {
            Cut::Whole => (self.title.to_owned(), self.summary() + &self.jumps(), self.whole()),
            Cut::Front => (self.title.to_owned(), self.summary(), self.front()),
            Cut::Part { section, number, first, end } => {
                let (label, lines) = &self.sections[section];
                let content = self.folders(&lines[first..end], "h2");
                (self.part_title(&label.title, number, section), self.steps(at), content)
            }
        };
        let (title, language) = (escaped(&title), escaped(self.language));
        let values = [title.as_ref(), language.as_ref(), STYLE, navigation.as_str(), content.as_str()];
        self.template.fill(values)
    }

    fn part_title(&self, title: &str, number: usize, section: usize) -> String {
        let pages = self.pages_of(section).count();
        if pages > 1 { format!("{title}, {number} of {pages}") } else { title.to_owned() }
    }

    fn pages_of(&self, wanted: usize) -> impl Iterator<Item = Cut> {
        self.pages.iter().copied().filter(move |cut| matches!(cut, Cut::Part { section, .. } if *section == wanted))
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
        for (label, lines) in &self.sections {
            out += &format!(
                "<li><a href=\"#{}\">{}</a> <span class=\"count\">{}</span></li>\n",
                label.name,
                escaped(&label.title),
                grouped(lines.len() as u64)
            );
        }
        out + "</ul>\n</nav>\n"
    }

    /// Links to the first page and to those before and after.
    fn steps(&self, at: usize) -> String {
        let link = |page: usize, rel: &str, words: &str| {
            format!("<li><a href=\"{}\"{rel}>{}</a></li>\n", self.name(self.pages[page]), escaped(words))
        };
        let name = |page: usize| match self.pages[page] {
            Cut::Part { section, number, .. } => {
                Some(self.part_title(&self.sections[section].0.title, number, section))
            }
            _ => None,
        };
        let mut out = String::from("<nav aria-label=\"Pages\">\n<ul>\n");
        out += &link(0, "", self.title);
        if let Some(before) = name(at - 1) {
            out += &link(at - 1, " rel=\"prev\"", &format!("← {before}"));
        }
        if let Some(after) = (at + 1 < self.pages.len()).then(|| name(at + 1)).flatten() {
            out += &link(at + 1, " rel=\"next\"", &format!("{after} →"));
        }
        out + "</ul>\n</nav>\n"
    }

    fn whole(&self) -> String {
        let mut out = String::new();
        for (label, lines) in &self.sections {
            out += &format!(
                "<section id=\"{}\">\n<h2>{} <span class=\"count\">{}</span></h2>\n{}</section>\n",
                label.name,
                escaped(&label.title),
                grouped(lines.len() as u64),
                self.folders(lines, "h3")
            );
        }
        out
    }

    fn front(&self) -> String {
        let mut out = String::new();
        for (section, (label, lines)) in self.sections.iter().enumerate() {
            let title = escaped(&label.title);
            out += &format!("<h2>{title} <span class=\"count\">{}</span></h2>\n<ul>\n", grouped(lines.len() as u64));
            for cut in self.pages_of(section) {
                let Cut::Part { first, end, .. } = cut else { continue };
                out += &format!(
                    "<li><a href=\"{}\">{} … {}</a> <span class=\"count\">{}</span></li>\n",
                    self.name(cut),
                    escaped(lines[first].name()),
                    escaped(lines[end - 1].name()),
                    grouped((end - first) as u64)
                );
            }
            out += "</ul>\n";
        }
        out
    }

    fn link(&self, line: &Line<'_>, out: &mut String) {
        let main = |language: &str| language.split('-').next().unwrap_or("").to_ascii_lowercase();
        *out += "<a href=\"";
        *out += &escaped(line.url);
        *out += "\"";
        if let Some(language) = line.language.filter(|language| main(language) != main(self.language)) {
            *out += &format!(" lang=\"{}\"", escaped(language));
        }
        *out += ">";
        *out += &escaped(line.name());
        *out += "</a>";
    }

    /// Lists of lines, folder by folder; a heading for each where there are several.
    fn folders(&self, lines: &[Line<'_>], heading: &str) -> String {
        let mut out = String::new();
        let groups: Vec<&[Line<'_>]> = lines.chunk_by(|one, other| one.folder() == other.folder()).collect();
        for group in &groups {
            let folder = group[0].folder();
            let (lead, rest) = match group {
                [lead, rest @ ..] if lead.leads && groups.len() > 1 => (Some(lead), rest),
                all => (None, *all),
            };
            // A group without a name stands first, right below its section.
            if groups.len() > 1 && (folder != "/" || lead.is_some()) {
                out += &format!("<{heading}>");
                match (lead, self.folders.get(folder)) {
                    (Some(lead), _) => self.link(lead, &mut out),
                    (None, Some(line)) => out += &escaped(line.name()),
                    (None, None) => out += &escaped(folder),
                }
                out += &format!(" <span class=\"count\">{}</span></{heading}>\n", grouped(group.len() as u64));
            }
            if !rest.is_empty() {
                out += "<ul>\n";
                for line in rest {
                    out += "<li>";
                    self.link(line, &mut out);
                    out += "</li>\n";
                }
                out += "</ul>\n";
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::super::tests::line;
    use super::*;

    fn label(name: &str) -> Label {
        Label { name: name.into(), title: name.to_uppercase() }
    }

    fn visitors<'a>(urls: &'a [String], most: usize, template: &'a Template) -> Visitors<'a> {
        let lines =
            |part: usize| urls.iter().skip(part).step_by(2).map(|url| line(url, Some("A <lamp>"))).collect::<Vec<_>>();
        let sections = vec![(label("pages"), lines(0)), (label("journal"), lines(1)), (label("empty"), vec![])];
        Visitors::new(sections, |ranks, order| ranks.sort_unstable_by(order), most, "All of it", "en", template)
    }

    #[test]
    fn one_page_by_section_and_folder_with_titles() {
        let urls = ["/", "/journal/", "/journal/frost/", "/journal/thaw/?a=1&b=2", "/fares/"]
            .map(|path| format!("https://www.marrowvale.example{path}"));
        let template = Template::default();
        let visitors = visitors(&urls, 100, &template);
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
        fn lines_stand_by_folder_then_by_name_in_any_case(
            names in proptest::collection::vec(("[ab]{0,2}", "[aAbZéÉΣß ]{0,40}"), 1..30),
        ) {
            let urls: Vec<String> = names.iter().enumerate()
                .map(|(at, (folder, _))| format!("https://www.marrowvale.example/{folder}/{at}/"))
                .collect();
            let mut lines: Vec<Line<'_>> =
                urls.iter().zip(&names).map(|(url, (_, name))| line(url, Some(name.trim()).filter(|name| !name.is_empty()))).collect();
            let order: Vec<&str> = ranked(&mut lines, |ranks, order| ranks.sort_unstable_by(order))
                .iter()
                .map(|rank| lines[rank.at as usize].url)
                .collect();
            let letters = |line: &Line<'_>| line.name().chars().flat_map(char::to_lowercase).collect::<String>();
            let mut wanted = lines.clone();
            wanted.sort_by_key(|line| (line.folder(), !line.leads, letters(line), line.url));
            prop_assert_eq!(order, wanted.iter().map(|line| line.url).collect::<Vec<_>>());
        }

        #[test]
        fn every_entry_stands_on_exactly_one_page(number in 1usize..60, most in 1usize..20) {
            let urls: Vec<String> =
                (0..number).map(|at| format!("https://www.marrowvale.example/{}/{at}/", at % 3)).collect();
            let template = Template::default();
            let visitors = visitors(&urls, most, &template);
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

    #[rstest]
    #[case(&["Frost · Journal", "Thaw · Journal", "Rain · Journal", "Journal"], &["Frost", "Journal", "Rain", "Thaw"])]
    #[case(&["A – B | Railway", "C | Railway", "D | Railway"], &["A – B", "C", "D"])]
    #[case(&["Frost · Journal", "Thaw", "Rain", "Ice"], &["Frost · Journal", "Ice", "Rain", "Thaw"])]
    fn the_name_of_the_site_is_left_out_of_titles(#[case] titles: &[&str], #[case] wanted: &[&str]) {
        let mut lines: Vec<_> = titles.iter().map(|title| line("https://a.example/x", Some(title))).collect();
        without_site_name(&mut lines);
        let mut names: Vec<&str> = lines.iter().map(Line::name).collect();
        names.sort_unstable();
        assert_eq!(names, wanted);
    }

    #[rstest]
    #[case("<ul>{{content}}</ul>", None)]
    #[case("<b>{{ title }}</b>{{content}}", None)]
    #[case("<ul></ul>", Some("there is no {{content}}"))]
    #[case("{{content}}{{footer}}", Some("{{footer}} is unknown"))]
    #[case("{{content}}{{", Some("is unknown"))]
    fn templates(#[case] text: &str, #[case] wanted: Option<&str>) {
        let why = Template::parse(text).err().map(|why| why.to_string());
        assert_eq!(why.is_some(), wanted.is_some(), "{why:?}");
        assert!(why.unwrap_or_default().contains(wanted.unwrap_or("")));
    }
}
