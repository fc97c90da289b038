//! A digest of a page's main content, which a changed menu, footer or script does not affect.

use xxhash_rust::xxh3::Xxh3Default;

/// Folds text into a digest word by word, so that spacing and markup do not count.
struct WordDigest {
    hasher: Xxh3Default,
    /// Words that are still to be hashed: hashing a few long runs is faster than many short ones.
    pending: Vec<u8>,
    any: bool,
    between: bool,
}

/// The most bytes that are pending, besides one run of text.
const PENDING: usize = 4096;

impl WordDigest {
    fn new() -> Self {
        Self { hasher: Xxh3Default::new(), pending: Vec::new(), any: false, between: false }
    }

    fn add(&mut self, text: &[u8]) {
        if text.first().is_some_and(u8::is_ascii_whitespace) {
            self.between = true;
        }
        for word in text.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()) {
            if self.between && self.any {
                self.pending.push(b' ');
            }
            self.pending.extend_from_slice(word);
            (self.any, self.between) = (true, true);
        }
        self.between = text.last().is_some_and(u8::is_ascii_whitespace);
        if self.pending.len() > PENDING {
            self.hasher.update(&self.pending);
            self.pending.clear();
        }
    }

    fn digest(&mut self) -> u64 {
        self.hasher.update(&self.pending);
        self.pending.clear();
        self.hasher.digest()
    }
}

/// Where in the page the reader is, in terms of content. Elements are judged by name, role, class and id.
pub(super) struct Content {
    in_main: WordDigest,
    outside_chrome: WordDigest,
    everything: WordDigest,
    /// The element being skipped, and how many elements of its name are open.
    skipping: Option<(Vec<u8>, u32)>,
    /// The number of open `main` and `article` elements.
    main_depth: u32,
}

/// Classes and ids that mark what is not content, on pages without the proper elements. Whole words only.
const CHROME_WORDS: [&[u8]; 9] = [
    b"menu",
    b"sidebar",
    b"footer",
    b"header",
    b"breadcrumb",
    b"breadcrumbs",
    b"site-header",
    b"site-footer",
    b"site-menu",
];
/// Parts of a class or id that mark navigation: `skip-nav`, `nav_top`.
const NAVIGATION_PARTS: [&[u8]; 3] = [b"nav", b"navbar", b"navigation"];

impl Content {
    pub(super) fn new() -> Self {
        Self {
            in_main: WordDigest::new(),
            outside_chrome: WordDigest::new(),
            everything: WordDigest::new(),
            skipping: None,
            main_depth: 0,
        }
    }

    /// Processes a start tag.
    pub(super) fn open(&mut self, name: &[u8], role: &[u8], class: &[u8], id: &[u8]) {
        if let Some((skipped, depth)) = &mut self.skipping {
            *depth += u32::from(skipped == name);
            return;
        }
        let is_main = matches!(name, b"main" | b"article") || role.eq_ignore_ascii_case(b"main");
        self.main_depth += u32::from(matches!(name, b"main" | b"article"));
        if is_chrome(name, self.main_depth > 0) || (!is_main && self.main_depth == 0 && says_chrome(role, class, id)) {
            self.skipping = Some((name.to_vec(), 1));
        }
    }

    /// Processes an end tag.
    pub(super) fn close(&mut self, name: &[u8]) {
        let Some((skipped, depth)) = &mut self.skipping else {
            if matches!(name, b"main" | b"article") {
                self.main_depth = self.main_depth.saturating_sub(1);
            }
            return;
        };
        if skipped == name {
            *depth -= 1;
            if *depth == 0 {
                self.skipping = None;
            }
        }
    }

    /// Processes text.
    pub(super) fn text(&mut self, text: &[u8]) {
        match &self.skipping {
            Some((name, _)) if !is_never_text(name) => self.everything.add(text),
            Some(_) => {}
            None if self.main_depth > 0 => self.in_main.add(text),
            // The narrower digest is used if it has any words, so the wider one is no longer needed.
            None if !self.in_main.any => self.outside_chrome.add(text),
            None => {}
        }
    }

    /// Whether the current position is only for visitors without scripts.
    pub(super) fn is_for_no_script(&self) -> bool {
        self.skipping.as_ref().is_some_and(|(name, _)| name == b"noscript")
    }

    /// Whether the current position is content.
    pub(super) fn is_content(&self) -> bool {
        self.skipping.is_none()
    }

    /// The digest of `main` and `article`, else of everything outside the navigation, else of the whole text.
    pub(super) fn digest(&mut self) -> u64 {
        let words = [&mut self.in_main, &mut self.outside_chrome].into_iter().find(|words| words.any);
        words.unwrap_or(&mut self.everything).digest()
    }
}

fn is_never_text(name: &[u8]) -> bool {
    matches!(name, b"script" | b"style" | b"template" | b"noscript" | b"svg")
}

fn is_chrome(name: &[u8], in_main: bool) -> bool {
    is_never_text(name) || name == b"nav" || (!in_main && matches!(name, b"header" | b"footer" | b"aside"))
}

fn says_chrome(role: &[u8], class: &[u8], id: &[u8]) -> bool {
    let listed = |word: &[u8]| {
        let is_one_of = |words: &[&[u8]], word: &[u8]| words.iter().any(|known| word.eq_ignore_ascii_case(known));
        let navigates = |part: &[u8]| {
            let rest =
                part.get(..3).filter(|start| start.eq_ignore_ascii_case(b"nav")).map_or(&b""[..], |_| &part[3..]);
            is_one_of(&NAVIGATION_PARTS, part) || is_one_of(&CHROME_WORDS, rest)
        };
        is_one_of(&CHROME_WORDS, word) || word.split(|byte| matches!(byte, b'-' | b'_')).any(navigates)
    };
    [&b"navigation"[..], b"banner", b"contentinfo", b"search"].iter().any(|known| role.eq_ignore_ascii_case(known))
        || listed(id)
        || class.split(u8::is_ascii_whitespace).any(listed)
}
