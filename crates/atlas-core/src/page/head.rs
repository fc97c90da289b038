//! Reading the head of a page.

use super::reading::{PageReading, cut, folded, push_name};
use super::tokens::Attributes;
use super::{MOST_ALTERNATES, MOST_IMAGES, OwnWord, Page, robots_words};
use crate::address::Address;
use crate::language::Alternate;
use crate::lastmod::Lastmod;

impl PageReading<'_> {
    pub(super) fn meta(&mut self, attributes: &Attributes<'_>) {
        let name = [attributes.text("name"), attributes.text("property")].into_iter().find(|name| !name.is_empty());
        let name = name.unwrap_or_default().to_ascii_lowercase();
        let content = attributes.text("content");
        let content = content.as_ref();
        match name.as_str() {
            "description" => self.page.description = folded(content.as_bytes()),
            "robots" => self.robots(&name, content),
            token if self.reader.tokens.iter().any(|known| known == token) => self.robots(&name, content),
            "idle-atlas" => {
                let Page { own_word, troubles, unreadable, .. } = &mut self.page;
                *own_word = OwnWord::read(content, &mut |trouble| troubles.push(trouble), &mut |value| {
                    unreadable.get_or_insert(value);
                });
            }
            "author" => push_name(&mut self.page.authors, content),
            "article:section" => push_name(&mut self.page.categories, content),
            "article:tag" => push_name(&mut self.page.tags, content),
            "article:modified_time" => self.page.modified = self.told_date(&name, content),
            "article:published_time" => self.page.published = self.told_date(&name, content),
            "og:title" => self.og_title = folded(content.as_bytes()),
            "og:description" => self.og_description = folded(content.as_bytes()),
            "og:image" | "og:image:url" | "og:image:secure_url" => {
                let image = self.file(content).filter(|_| self.og_images.len() < MOST_IMAGES);
                self.og_images.extend(image);
            }
            property if property.starts_with("og:video") || property.starts_with("video:") => {
                let mut films = std::mem::take(&mut self.films);
                films.graph(property, content, |reference| self.file(reference));
                self.films = films;
            }
            _ if attributes.text("http-equiv").eq_ignore_ascii_case("refresh") && !self.content.is_for_no_script() => {
                self.page.refresh = self.sent_on(content);
            }
            _ => {}
        }
    }

    /// A date in the head; one that cannot be read is reported.
    pub(super) fn told_date(&mut self, name: &str, content: &str) -> Option<Lastmod> {
        let date = self.date(content);
        if date.is_none() && !content.trim().is_empty() {
            self.page.troubles.push(format!(
                "{name} “{}” is not a date such as 2026-11-23T09:30:00Z; the page is listed without it",
                cut(content)
            ));
        }
        date
    }

    pub(super) fn robots(&mut self, name: &str, content: &str) {
        let words = robots_words(content);
        for (word, meant) in misspelt(content) {
            self.page.troubles.push(format!("engines do not understand robots “{word}”; did you mean “{meant}”?"));
        }
        if self.page.noindex.is_none() && words.noindex {
            self.page.noindex = Some(cut(&format!("<meta name=\"{name}\" content=\"{content}\">")));
        }
        self.page.nofollow |= words.nofollow;
        self.no_image_index |= words.no_image_index;
        if let Some(after) = words.unavailable_after {
            match Lastmod::read_deadline(after, &self.reader.timezone) {
                Some(date) => self.page.expires = self.page.expires.or(Some(date)),
                None => _ = self.page.unreadable.get_or_insert(cut(&format!("unavailable_after “{after}”"))),
            }
        }
    }

    /// Reads `<meta http-equiv="refresh" content="0; url=/new/">`, which is a redirect if it names another URL and the
    /// delay is short.
    pub(super) fn sent_on(&self, content: &str) -> Option<Address> {
        let (delay, rest) = content.split_once([';', ','])?;
        let delay: f64 = delay.trim().parse().ok()?;
        let rest = rest.trim();
        let rest = match rest.get(..3) {
            Some(start) if start.eq_ignore_ascii_case("url") => rest[3..].trim_start().strip_prefix('=')?.trim(),
            _ => rest,
        };
        let target = self.complete(rest.trim_matches(['"', '\'']))?;
        (delay <= 10.0 && target != *self.address).then_some(target)
    }

    pub(super) fn link_element(&mut self, attributes: &Attributes<'_>) {
        let rel = attributes.text("rel");
        let has = |wanted: &str| rel.split_ascii_whitespace().any(|word| word.eq_ignore_ascii_case(wanted));
        let href = attributes.text("href");
        if href.is_empty() {
            return;
        }
        if has("canonical") && self.page.canonical.is_none() {
            self.page.canonical = self.complete(&href);
        } else if has("alternate") {
            let language = attributes.text("hreflang");
            if attributes.text("type").eq_ignore_ascii_case("application/json+oembed") {
                self.page.oembed = self.page.oembed.take().or(self.complete(&href));
            } else if !language.is_empty()
                && self.page.alternates.len() < MOST_ALTERNATES
                && let Some(url) = self.complete(&href)
            {
                let (language, url) = (cut(&language).into(), url.as_str().to_owned().into());
                self.page.alternates.push(Alternate { language, url });
            }
        }
    }
}

/// Words of a robots directive that almost match one that keeps engines out, each with the word that is probably meant.
fn misspelt(content: &str) -> impl Iterator<Item = (&str, &'static str)> {
    const MEANT: [&str; 3] = ["noindex", "nofollow", "noimageindex"];
    content.split(',').map(str::trim).filter_map(|word| {
        let letters = word.chars().filter(char::is_ascii_alphabetic).collect::<String>().to_ascii_lowercase();
        let meant = MEANT.into_iter().find(|meant| *meant == letters)?;
        (!word.eq_ignore_ascii_case(meant)).then_some((word, meant))
    })
}
