//! Choosing a picture's address from those that a page offers for it.

use std::borrow::Cow;

/// Pictures up to this width and height are icons.
const ICON: f64 = 32.0;
/// Words in file names of pictures that show nothing.
const NO_PICTURES: [&str; 8] = ["icon", "icons", "favicon", "sprite", "sprites", "spacer", "pixel", "blank"];

/// A picture's address with its size, by width or by density.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct ImageCandidate {
    size: f64,
    address: String,
}

impl ImageCandidate {
    /// The largest of several `srcset`s.
    pub(super) fn largest_of(srcsets: [&str; 2]) -> Option<Self> {
        srcsets.into_iter().fold(None, |best, srcset| Self::larger(best, Self::largest(srcset)))
    }

    /// The larger of the two, or the first if they are equal.
    pub(super) fn larger(one: Option<Self>, other: Option<Self>) -> Option<Self> {
        match (one, other) {
            (Some(one), Some(other)) if other.size > one.size => Some(other),
            (one, other) => one.or(other),
        }
    }

    /// The largest candidate of a `srcset` (HTML Standard, "srcset attributes").
    fn largest(srcset: &str) -> Option<Self> {
        let mut best: Option<(f64, &str)> = None;
        let mut rest = srcset;
        loop {
            rest = rest.trim_start_matches(|letter: char| letter.is_ascii_whitespace() || letter == ',');
            if rest.is_empty() {
                return best.map(|(size, address)| Self { size, address: address.to_owned() });
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
            if !address.is_empty() && !is_inline(address) && best.is_none_or(|(known, _)| size > known) {
                best = Some((size, address));
            }
        }
    }
}

/// The addresses that an `img` offers.
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
    /// The address of the picture in its largest form; `picture` is what the sources of the `picture` element around it
    /// offer. `None` for icons, tracking pixels and pictures that are embedded in the page.
    pub(super) fn choose(&self, picture: Option<ImageCandidate>) -> Option<Cow<'a, str>> {
        let small = |size: &str| size.trim().trim_end_matches("px").parse::<f64>().is_ok_and(|size| size <= ICON);
        if small(self.width) && small(self.height) {
            return None;
        }
        let largest = ImageCandidate::larger(ImageCandidate::largest_of([self.srcset, self.lazy_srcset]), picture);
        let plain =
            [self.lazy_src, self.src].into_iter().map(str::trim).find(|text| !text.is_empty() && !is_inline(text));
        let chosen = match largest {
            Some(candidate) => Cow::Owned(candidate.address),
            None => Cow::Borrowed(plain?),
        };
        (!shows_nothing(&chosen)).then_some(chosen)
    }
}

/// Whether a file's name says that it is an icon, a spacer or similar.
fn shows_nothing(address: &str) -> bool {
    let path = address.split(['?', '#']).next().unwrap_or("");
    let mut parts = path.rsplit('/');
    let name = parts.next().unwrap_or("");
    let folder = parts.next().unwrap_or("");
    let (stem, extension) = name.rsplit_once('.').unwrap_or((name, ""));
    let listed = |word: &str| NO_PICTURES.iter().any(|known| word.eq_ignore_ascii_case(known));
    extension.eq_ignore_ascii_case("ico")
        || folder.eq_ignore_ascii_case("icons")
        || stem.split(['-', '_', '.']).any(listed)
}

/// Whether a reference does not name a file.
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
    #[case("data:image/gif;base64,R0 900w, b.jpg 300w", Some("b.jpg"))]
    #[case(" , ", None)]
    #[case("", None)]
    fn the_largest_of_a_srcset(#[case] srcset: &str, #[case] wanted: Option<&str>) {
        assert_eq!(ImageCandidate::largest(srcset).map(|candidate| candidate.address).as_deref(), wanted);
    }

    #[rstest]
    #[case(Offer { src: "a.svg", ..Offer::default() }, Some("a.svg"))]
    #[case(Offer { src: "data:image/gif;base64,R0", lazy_src: "b.svg", ..Offer::default() }, Some("b.svg"))]
    #[case(Offer { src: "a.svg", lazy_srcset: "c.svg 2x", ..Offer::default() }, Some("c.svg"))]
    #[case(Offer { src: "count.gif", width: "1", height: "1", ..Offer::default() }, None)]
    #[case(Offer { src: "bell.svg", width: "24px", height: "24px", ..Offer::default() }, None)]
    #[case(Offer { src: "/icons/bell.svg", ..Offer::default() }, None)]
    #[case(Offer { src: "/img/print-icon.png?v=2", ..Offer::default() }, None)]
    #[case(Offer { src: "/favicon.ico", ..Offer::default() }, None)]
    #[case(Offer { src: "/img/iconic-halt.png", ..Offer::default() }, Some("/img/iconic-halt.png"))]
    #[case(Offer { src: "DATA:image/png,x", ..Offer::default() }, None)]
    #[case(Offer::default(), None)]
    fn the_address_of_a_picture(#[case] offer: Offer<'_>, #[case] wanted: Option<&str>) {
        assert_eq!(offer.choose(None).as_deref(), wanted);
    }

    #[rstest]
    #[case("small.jpg", "", "large.webp 1600w, s.webp 300w", Some("large.webp"))]
    #[case("a.jpg", "a.jpg 2000w", "b.webp 1600w", Some("a.jpg"))]
    #[case("a.jpg", "", "", Some("a.jpg"))]
    fn a_picture_element(#[case] src: &str, #[case] srcset: &str, #[case] source: &str, #[case] wanted: Option<&str>) {
        let picture = ImageCandidate::largest(source);
        assert_eq!(Offer { src, srcset, ..Offer::default() }.choose(picture).as_deref(), wanted);
    }
}
