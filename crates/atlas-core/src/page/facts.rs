//! Facts about the content of a page, as advice needs them, in eight bytes: they are kept for each page.

/// Facts about the content of a page. Numbers that are too large are cut to the most that can be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct PageFacts {
    /// Words of the content, without navigation, header and footer.
    pub words: u32,
    /// `title` elements in the head.
    pub titles: u8,
    /// First-level headings anywhere on the page.
    pub first_level: u8,
    /// Headings of the content.
    pub headings: u8,
    /// Whether a heading is more than one level below the one before.
    pub skips_level: bool,
    /// Pictures of the content.
    pub pictures: u16,
    /// Those without an `alt` attribute.
    pub wordless: u16,
    /// Links within the site that ask crawlers not to follow them.
    pub nofollow: u8,
    /// Whether it asks for a password.
    pub password: bool,
}

/// The fields in their order: how many bits each takes.
const WIDTHS: [u32; 9] = [24, 3, 4, 8, 1, 10, 10, 3, 1];

impl PageFacts {
    fn values(self) -> [u64; 9] {
        [
            u64::from(self.words),
            u64::from(self.titles),
            u64::from(self.first_level),
            u64::from(self.headings),
            u64::from(self.skips_level),
            u64::from(self.pictures),
            u64::from(self.wordless),
            u64::from(self.nofollow),
            u64::from(self.password),
        ]
    }

    /// The facts as a number, for storing.
    pub fn bits(self) -> u64 {
        let (mut bits, mut at) = (0, 0);
        for (value, width) in self.values().into_iter().zip(WIDTHS) {
            bits |= value.min((1 << width) - 1) << at;
            at += width;
        }
        bits
    }

    /// The inverse of [`PageFacts::bits`].
    pub fn from_bits(mut bits: u64) -> Self {
        let mut next = |width: u32| {
            let value = bits & ((1 << width) - 1);
            bits >>= width;
            value
        };
        let values = WIDTHS.map(&mut next);
        Self {
            words: values[0] as u32,
            titles: values[1] as u8,
            first_level: values[2] as u8,
            headings: values[3] as u8,
            skips_level: values[4] == 1,
            pictures: values[5] as u16,
            wordless: values[6] as u16,
            nofollow: values[7] as u8,
            password: values[8] == 1,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn facts_fit_into_a_number() {
        assert_eq!(WIDTHS.iter().sum::<u32>(), 64);
        let facts = PageFacts {
            words: 812,
            titles: 2,
            first_level: 1,
            headings: 9,
            skips_level: true,
            pictures: 12,
            wordless: 3,
            nofollow: 1,
            password: true,
        };
        assert_eq!(PageFacts::from_bits(facts.bits()), facts);
        let many = PageFacts { words: u32::MAX, first_level: 200, wordless: 5_000, ..facts };
        let kept = PageFacts::from_bits(many.bits());
        assert_eq!((kept.words, kept.first_level, kept.wordless, kept.headings), (16_777_215, 15, 1_023, 9));
    }
}
