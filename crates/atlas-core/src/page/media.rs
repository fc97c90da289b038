//! Choosing a picture's address among those that a page offers for it.

/// The largest candidate of a `srcset`, by width or by density. Source: HTML Standard, "srcset attributes".
pub(super) fn largest(srcset: &str) -> Option<&str> {
    let mut best: Option<(f64, &str)> = None;
    let mut rest = srcset;
    loop {
        rest = rest.trim_start_matches(|letter: char| letter.is_ascii_whitespace() || letter == ',');
        if rest.is_empty() {
            return best.map(|(_, address)| address);
        }
        let end = rest.find(|letter: char| letter.is_ascii_whitespace()).unwrap_or(rest.len());
        let (address, after) = rest.split_at(end);
        let (address, descriptor) = match address.strip_suffix(',') {
            Some(address) => {
                rest = after;
                (address.trim_end_matches(','), "")
            }
            None => {
                let end = after.find(',').unwrap_or(after.len());
                rest = &after[end..];
                (address, after[..end].trim())
            }
        };
        let size = descriptor.trim_end_matches(['w', 'x', 'h']).parse().unwrap_or(1.0);
        if !address.is_empty() && best.is_none_or(|(known, _)| size > known) {
            best = Some((size, address));
        }
    }
}

/// What an `img` offers.
#[derive(Debug, Default)]
pub(super) struct Offer<'a> {
    pub(super) src: &'a str,
    pub(super) srcset: &'a str,
    pub(super) lazy_src: &'a str,
    pub(super) lazy_srcset: &'a str,
    pub(super) width: &'a str,
    pub(super) height: &'a str,
}

impl<'a> Offer<'a> {
    /// The address of the picture in its largest form; `None` for pixels that only count visitors, and for pictures that
    /// stand in the page itself.
    pub(super) fn choose(&self) -> Option<&'a str> {
        let tiny = |size: &str| size.trim().parse::<f64>().is_ok_and(|size| size <= 2.0);
        if tiny(self.width) && tiny(self.height) {
            return None;
        }
        largest(self.srcset)
            .or_else(|| largest(self.lazy_srcset))
            .into_iter()
            .chain([self.lazy_src, self.src])
            .map(str::trim)
            .find(|address| !address.is_empty() && !is_inline(address))
    }
}

/// Whether a reference names no file of its own.
pub(super) fn is_inline(reference: &str) -> bool {
    let scheme = reference.split(':').next().unwrap_or("");
    reference.contains(':')
        && ["data", "blob", "about", "javascript"].iter().any(|known| scheme.eq_ignore_ascii_case(known))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("a.jpg 320w, b.jpg 1280w, c.jpg 640w", Some("b.jpg"))]
    #[case("a.jpg, b.jpg 2x", Some("b.jpg"))]
    #[case("a.jpg", Some("a.jpg"))]
    #[case("a,b.jpg 1x,\n c.jpg 1.5x", Some("c.jpg"))]
    #[case(" , ", None)]
    #[case("", None)]
    fn the_largest_of_a_srcset(#[case] srcset: &str, #[case] wanted: Option<&str>) {
        assert_eq!(largest(srcset), wanted);
    }

    #[rstest]
    #[case(Offer { src: "a.svg", ..Offer::default() }, Some("a.svg"))]
    #[case(Offer { src: "data:image/gif;base64,R0", lazy_src: "b.svg", ..Offer::default() }, Some("b.svg"))]
    #[case(Offer { src: "a.svg", lazy_srcset: "c.svg 2x", ..Offer::default() }, Some("c.svg"))]
    #[case(Offer { src: "count.gif", width: "1", height: "1", ..Offer::default() }, None)]
    #[case(Offer { src: "DATA:image/png,x", ..Offer::default() }, None)]
    #[case(Offer::default(), None)]
    fn the_address_of_a_picture(#[case] offer: Offer<'_>, #[case] wanted: Option<&str>) {
        assert_eq!(offer.choose(), wanted);
    }
}
