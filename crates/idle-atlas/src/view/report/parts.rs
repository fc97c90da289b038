//! The small parts of the report: escaped text, links and tables.

use htmlize::escape_attribute;

use crate::screen::grouped;

/// Text that means nothing but itself. Control characters are shown as such.
pub fn text(text: &str) -> String {
    let visible: String = text.chars().map(|letter| if letter.is_control() { '\u{fffd}' } else { letter }).collect();
    escape_attribute(visible).into_owned()
}

/// A link, if the address is one that may be followed.
pub fn link(url: &str, words: &str) -> String {
    match url.starts_with("https://") || url.starts_with("http://") {
        true => format!("<a href=\"{}\">{}</a>", text(url), text(words)),
        false => text(words),
    }
}

/// How the parts of a site are headed: on a page of its own, or among other sites.
pub struct Headings {
    /// What begins each anchor.
    prefix: String,
    /// The level of the site's own heading.
    level: u8,
}

impl Headings {
    /// On a page of its own.
    pub fn alone() -> Self {
        Self { prefix: String::new(), level: 1 }
    }

    /// The site with this number on a page of several.
    pub fn among(nth: usize) -> Self {
        Self { prefix: format!("site-{nth}-"), level: 2 }
    }

    /// The anchor of a part.
    pub fn anchor(&self, id: &str) -> String {
        format!("{}{id}", self.prefix)
    }

    /// The site's own heading, in HTML.
    pub fn site(&self, html: &str) -> String {
        self.heading(0, html)
    }

    /// The begin of a part.
    pub fn part(&self, id: &str, title: &str) -> String {
        let (anchor, level) = (self.anchor(id), self.level + 1);
        format!("<section aria-labelledby=\"{anchor}\"><h{level} id=\"{anchor}\">{}</h{level}>\n", text(title))
    }

    /// A heading within a part.
    pub fn within(&self, title: &str) -> String {
        self.heading(2, &text(title))
    }

    /// A heading below that.
    pub fn below(&self, title: &str) -> String {
        self.heading(3, &text(title))
    }

    fn heading(&self, deeper: u8, html: &str) -> String {
        let level = self.level + deeper;
        format!("<h{level}>{html}</h{level}>")
    }
}

/// A cell of a table.
pub struct Cell {
    html: String,
    class: &'static str,
}

impl Cell {
    pub fn words(words: impl AsRef<str>) -> Self {
        Self { html: text(words.as_ref()), class: "" }
    }

    pub fn number(number: u64) -> Self {
        Self { html: if number == 0 { "–".to_owned() } else { grouped(number) }, class: "n" }
    }

    /// A number that leads to the first of what it counts.
    pub fn linked_number(number: u64, first: Option<&str>) -> Self {
        match first.filter(|_| number > 0) {
            Some(first) => Self { html: link(first, &grouped(number)), class: "n" },
            None => Self::number(number),
        }
    }

    /// A number that may be unknown.
    pub fn maybe(number: Option<u64>) -> Self {
        Self { html: number.map_or("–".to_owned(), grouped), class: "n" }
    }

    pub fn html(html: String) -> Self {
        Self { html, class: "" }
    }

    /// A URL, which may be broken anywhere.
    pub fn url(html: String) -> Self {
        Self { html, class: "u" }
    }
}

/// A table; the names of columns of numbers begin with `#`.
pub fn table(header: &[&str], rows: impl Iterator<Item = Vec<Cell>>) -> String {
    let head = header.iter().map(|name| match name.strip_prefix('#') {
        Some(name) => format!("<th scope=\"col\" class=\"n\">{}</th>", text(name)),
        None if name.is_empty() => "<td></td>".to_owned(),
        None => format!("<th scope=\"col\">{}</th>", text(name)),
    });
    let head: String = head.collect();
    let body: String = rows
        .map(|cells| {
            let cells = cells.iter().map(|Cell { html, class }| match *class {
                "" => format!("<td>{html}</td>"),
                class => format!("<td class=\"{class}\">{html}</td>"),
            });
            format!("<tr>{}</tr>", cells.collect::<String>())
        })
        .collect();
    format!("<div class=scroll tabindex=0><table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table></div>")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_reaches_the_page_unescaped() {
        let hostile = "\u{1b}[31m<script>\"&'</script>";
        assert!(!text(hostile).contains(['<', '>', '"', '\u{1b}']), "{}", text(hostile));
        assert!(!link("javascript:alert(1)", hostile).contains("href"));
        assert!(!link(&format!("https://a.example/{hostile}"), hostile).contains("<script"));
    }
}
