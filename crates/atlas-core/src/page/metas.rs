//! The `meta` elements of a page's head.

use super::tokens::{self, Attributes, TokenSink};

/// The names and contents of the `meta` elements before the body (HTML Living Standard, section 4.2.5).
pub fn metas(page: &[u8]) -> Vec<(String, String)> {
    let mut metas = Metas::default();
    tokens::read(page, &mut metas);
    metas.found
}

#[derive(Default)]
struct Metas {
    found: Vec<(String, String)>,
    is_over: bool,
}

impl TokenSink for Metas {
    fn open(&mut self, tag: &[u8], attributes: &Attributes<'_>, _self_closing: bool) {
        self.is_over |= tag == b"body";
        if tag == b"meta" && !self.is_over {
            let (name, content) = (attributes.text("name"), attributes.text("content"));
            if !name.is_empty() {
                self.found.push((name.into_owned(), content.into_owned()));
            }
        }
    }

    fn close(&mut self, tag: &[u8]) {
        self.is_over |= tag == b"head";
    }

    fn text(&mut self, _text: &[u8]) {}
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn elements_of_the_head_alone_count() {
        let page = b"<!-- <meta name=a content=no> --><META NAME='Lamp' CONTENT=\"3f&amp;9c\"><meta charset=utf-8>\
                     <title>x</title><meta name=b content=c></head><body><meta name=d content=e>";
        let wanted = [("Lamp", "3f&9c"), ("b", "c")].map(|(name, content)| (name.to_owned(), content.to_owned()));
        assert_eq!(metas(page), wanted);
    }
}
