//! The kinds of finding: code, severity and advice.

use crate::report::Severity;

/// One kind of finding.
pub(super) struct FindingKind {
    pub(super) code: &'static str,
    pub(super) severity: Severity,
    pub(super) mend: &'static str,
}

macro_rules! kinds {
    ($($name:ident = $code:literal, $severity:ident, $mend:literal;)*) => {
        $(pub(super) const $name: FindingKind = FindingKind { code: $code, severity: Severity::$severity, mend: $mend };)*
        /// The codes of all findings.
        pub const CODES: &[&str] = &[$($code),*];
        #[cfg(test)]
        pub(super) const ALL_KINDS: &[&FindingKind] = &[$(&$name),*];
    };
}

kinds! {
    ROBOTS_MISSING = "robots-missing", Warning, "Put a robots.txt there, so that engines find the sitemap without being told.";
    OUT_OF_REACH = "out-of-reach", Advice, "Check it where it is: it is not below this web root.";
    NOT_DECLARED = "not-declared", Warning, "Add a line “Sitemap: URL of the main file” to robots.txt, or let a build do it.";
    SITE_SHUT = "site-shut", Error, "Remove the rule from robots.txt: it forbids engines to read the site.";
    ROBOTS_TOO_LARGE = "robots-too-large", Warning, "Shorten robots.txt to 500 KiB: engines need not read what comes after that.";
    ROBOTS_ELSEWHERE = "robots-elsewhere", Warning, "Put its rules into the robots.txt at the root of the host: engines read no other.";
    FILE_BARRED = "file-barred", Error, "Allow the sitemap in robots.txt: engines may not fetch it.";
    FILE_MISSING = "file-missing", Error, "Build again, or remove the line that names the file.";
    FILE_BROKEN = "file-broken", Error, "Build again.";
    NOT_WELL_FORMED = "not-well-formed", Error, "Repair the XML at that line, or build again: engines give up on the whole file.";
    BEFORE_DECLARATION = "before-declaration", Error, "Remove everything before “<?xml”, including blank lines. A server or template often adds it.";
    BYTE_ORDER_MARK = "byte-order-mark", Advice, "Save the file without a byte-order mark: some readers cannot handle it.";
    OTHER_ROOT = "other-root", Error, "Use urlset or sitemapindex, in the namespace of the protocol, as the root element.";
    NOTHING_IN_IT = "nothing-in-it", Error, "Remove files without entries: the protocol requires at least one.";
    TOO_MANY_URLS = "too-many-urls", Error, "Split the file: 50,000 URLs is the limit.";
    TOO_MANY_FILES = "too-many-files", Error, "Use several indexes: 50,000 files is the limit for one.";
    TOO_MANY_BYTES = "too-many-bytes", Error, "Split the file: 52,428,800 bytes unpacked is the limit.";
    INDEX_IN_INDEX = "index-in-index", Error, "An index lists sitemaps only: name the files of the inner index in the outer one.";
    CHILD_ELSEWHERE = "child-elsewhere", Error, "Put the files of an index into its own folder or below it, on the same host.";
    LOC_MISSING = "loc-missing", Error, "Give each entry a loc with an absolute URL.";
    LOC_NO_URL = "loc-no-url", Error, "Write an absolute http or https URL, percent-encoded.";
    LOC_TOO_LONG = "loc-too-long", Error, "Shorten the URL: 2,047 characters is the limit.";
    LOC_OTHER_HOST = "loc-other-host", Error, "List only URLs with the scheme, host and port of the sitemap itself.";
    LOC_OUT_OF_SCOPE = "loc-out-of-scope", Warning, "Move the sitemap up: it may list only URLs in its own folder and below.";
    LOC_TWICE = "loc-twice", Warning, "List each URL once.";
    ALL_BARRED = "all-barred", Error, "Allow these URLs in robots.txt or leave the section out: engines may fetch none of them.";
    LOC_BARRED = "loc-barred", Warning, "Allow the URL in robots.txt or leave it out: engines may not fetch it.";
    LASTMOD_NO_DATE = "lastmod-no-date", Error, "Write lastmod as YYYY-MM-DD, or with time, seconds and zone.";
    LASTMOD_FORM = "lastmod-form", Warning, "Write lastmod as YYYY-MM-DD, or with time, seconds and zone: strict readers refuse other forms.";
    LASTMOD_FUTURE = "lastmod-future", Warning, "A page cannot have changed in the future: engines stop trusting the dates.";
    INDEX_BEHIND = "index-behind", Warning, "In the index, give the date when the file last changed; otherwise engines will not fetch it again.";
    NEWS_TOO_MANY = "news-too-many", Error, "Split the file: 1,000 news articles is the limit.";
    NEWS_TOO_OLD = "news-too-old", Warning, "Build again: after two days an article is no longer news.";
    ALTERNATE_LANGUAGE = "alternate-language", Error, "Use an ISO 639-1 language as hreflang, optionally with an ISO 3166-1 region: en-GB.";
    ALTERNATE_NOT_ITSELF = "alternate-not-itself", Warning, "Let each page of a group list all pages of the group, itself included.";
    HINT_UNKNOWN = "hint-unknown", Error, "Use one of the protocol's seven words as changefreq, and 0.0 to 1.0 as priority.";
    NAMESPACE = "namespace", Error, "Declare the element's namespace at the root, and use its prefix: engines ignore the element.";
    TOO_MANY_IMAGES = "too-many-images", Error, "1,000 pictures is the limit for one URL.";
    VIDEO_INCOMPLETE = "video-incomplete", Error, "A video needs a thumbnail, a title, a description, and a media file or player.";
    OWNERSHIP_ELEMENT = "ownership-element", Warning, "Put the element into the head of the home page: consoles forget whose site it is without it.";
    OWNERSHIP_FILE = "ownership-file", Warning, "Build again, or put the file into the web root: consoles forget whose site it is without it.";
    COPY_DIFFERS = "copy-differs", Error, "Build again: servers that send precompressed files send the old one.";
}
