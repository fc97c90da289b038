//! Reading the HTTP header `Link` of a page or document (RFC 8288): its canonical address and its translations.

use super::MOST_ALTERNATES;
use crate::address::Address;
use crate::language::Alternate;

/// The contents of `Link` headers.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct HeaderLinks {
    /// The canonical address (RFC 6596), which may be the page itself.
    pub canonical: Option<Address>,
    /// The same page in other languages.
    pub alternates: Vec<Alternate<'static>>,
}

impl HeaderLinks {
    /// Reads the value of one header, which may contain several links. `page` is the address that was requested. What
    /// cannot be read is ignored.
    ///
    /// ```
    /// use atlas_core::address::Address;
    /// use atlas_core::page::HeaderLinks;
    ///
    /// let page = Address::parse("https://www.marrowvale.example/timetable.pdf").unwrap();
    /// let mut links = HeaderLinks::default();
    /// links.take("</timetable/>; rel=\"canonical\", </cy/amserlen.pdf>; rel=alternate; hreflang=cy", &page);
    /// assert_eq!(links.canonical.unwrap().path(), "/timetable/");
    /// assert_eq!(links.alternates[0].language, "cy");
    /// ```
    pub fn take(&mut self, value: &str, page: &Address) {
        let mut rest = value;
        while let Some((_, after)) = rest.split_once('<') {
            let Some((target, after)) = after.split_once('>') else { return };
            let (parameters, others) = after.split_at(end_of_link(after));
            rest = others;
            let Ok(address) = page.join(target) else { continue };
            let (mut canonical, mut alternate, mut language) = (false, false, None);
            for (name, value) in parameters.split(';').filter_map(|parameter| parameter.split_once('=')) {
                let value = value.trim().trim_matches('"');
                let has = |wanted: &str| value.split_ascii_whitespace().any(|word| word.eq_ignore_ascii_case(wanted));
                match name.trim().to_ascii_lowercase().as_str() {
                    "rel" => (canonical, alternate) = (has("canonical"), has("alternate")),
                    "hreflang" => language = Some(value.to_owned()),
                    _ => {}
                }
            }
            if canonical {
                self.canonical.get_or_insert(address);
            } else if let Some(language) = language.filter(|_| alternate)
                && self.alternates.len() < MOST_ALTERNATES
            {
                self.alternates.push(Alternate { language: language.into(), url: address.into_string().into() });
            }
        }
    }
}

/// The end of a link's parameters: a comma outside quotes.
fn end_of_link(text: &str) -> usize {
    let mut quoted = false;
    let end = text.bytes().position(|byte| {
        quoted ^= byte == b'"';
        byte == b',' && !quoted
    });
    end.unwrap_or(text.len())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("</a>; rel=\"canonical\"", Some("/a"), &[])]
    #[case("</b>; rel=next, </a>; rel=\"nofollow canonical\"", Some("/a"), &[])]
    #[case("</a,b>; title=\"tea, and cake\"; rel=canonical", Some("/a,b"), &[])]
    #[case("</cy/>; rel=\"alternate\"; hreflang=\"cy\", </>; rel=alternate; hreflang=en", None, &["cy /cy/", "en /"])]
    #[case("</feed>; rel=alternate; type=\"application/rss+xml\"", None, &[])]
    #[case("</a>; rel=preload", None, &[])]
    #[case("</a; rel=canonical", None, &[])]
    #[case("nonsense", None, &[])]
    fn links_of_a_header(#[case] value: &str, #[case] canonical: Option<&str>, #[case] alternates: &[&str]) {
        let page = Address::parse("https://www.marrowvale.example/x/").unwrap();
        let mut links = HeaderLinks::default();
        links.take(value, &page);
        assert_eq!(links.canonical.as_ref().map(Address::path), canonical);
        let path = |one: &Alternate<'_>| format!("{} {}", one.language, crate::address::path(&one.url));
        assert_eq!(links.alternates.iter().map(path).collect::<Vec<_>>(), alternates);
    }
}
