//! The page for visitors (HTML sitemap): all entries by section and folder, by their titles, on one page or, where there are
//! many, on several.

use thiserror::Error;

use super::rank::{ByFolder, Folders, Item, ranked};
use super::{Line, escaped, grouped};

/// The name of the page in the web root, and of the first of several.
pub const VISITOR_PAGE: &str = "atlas.html";

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

/// All that visitors are shown, cut into pages.
#[derive(Debug)]
pub struct Visitors<'a> {
    sections: Vec<(Label, Vec<Item<'a>>)>,
    /// The pages of folders, by their paths.
    folders: ByFolder<'a, Item<'a>>,
    pages: Vec<Cut>,
    title: &'a str,
    language: &'a str,
    template: &'a Template,
    all: usize,
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
    /// Cuts sections, each with its lines, into pages of at most `entries_per_page`.
    pub fn new(
        sections: Vec<(Label, Vec<&'a Line<'a>>)>,
        entries_per_page: usize,
        title: &'a str,
        language: &'a str,
        template: &'a Template,
    ) -> Self {
        let mut all_folders = Folders::default();
        let sections = sections.into_iter().filter(|(_, lines)| !lines.is_empty()).map(|(label, lines)| {
            let (items, folders) = ranked(&lines);
            all_folders.join(folders);
            (label, items)
        });
        let sections: Vec<(Label, Vec<Item<'a>>)> = sections.collect();
        let items = sections.iter().flat_map(|(_, items)| items);
        let leading = items.filter(|item| all_folders.holds(item.line.path));
        let folders = leading.map(|item| (item.line.path, *item)).collect();
        let all = sections.iter().map(|(_, lines)| lines.len()).sum();
        let most = entries_per_page.max(1);
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

    fn link(&self, item: &Item<'_>, out: &mut String) {
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

    /// Lists of lines, folder by folder; a heading for each where there are several.
    fn folders(&self, items: &[Item<'_>], heading: &str) -> String {
        let mut out = String::new();
        let groups: Vec<&[Item<'_>]> = items.chunk_by(|one, other| one.folder() == other.folder()).collect();
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
                    (None, Some(item)) => out += &escaped(item.name()),
                    (None, None) => out += &escaped(folder),
                }
                out += &format!(" <span class=\"count\">{}</span></{heading}>\n", grouped(group.len() as u64));
            }
            if !rest.is_empty() {
                out += "<ul>\n";
                for item in rest {
                    out += "<li>";
                    self.link(item, &mut out);
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

    fn lines(urls: &[String]) -> Vec<Line<'_>> {
        urls.iter().map(|url| line(url, Some("A <lamp>"))).collect()
    }

    fn visitors<'a>(lines: &'a [Line<'a>], most: usize, template: &'a Template) -> Visitors<'a> {
        let part = |first: usize| lines.iter().skip(first).step_by(2).collect::<Vec<_>>();
        let sections = vec![(label("pages"), part(0)), (label("journal"), part(1)), (label("empty"), vec![])];
        Visitors::new(sections, most, "All of it", "en", template)
    }

    #[test]
    fn one_page_by_section_and_folder_with_titles() {
        let urls = ["/", "/journal/", "/journal/frost/", "/journal/thaw/?a=1&b=2", "/fares/"]
            .map(|path| format!("https://www.marrowvale.example{path}"));
        let template = Template::default();
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
            let template = Template::default();
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
