//! Findings about the entries of sitemap files.

use super::declare;

declare! { OF_ENTRIES;
    LOC_MISSING = "loc-missing", Error,
        "An entry has no URL.",
        "<url><lastmod>2026-11-01</lastmod></url>",
        "Give each entry a loc with an absolute URL.";
    LOC_NO_URL = "loc-no-url", Error,
        "A URL is relative, has another scheme than http and https, or has characters that need percent-encoding.",
        "<loc>/fares/</loc>",
        "Write an absolute http or https URL, percent-encoded.";
    TOO_LONG = "too-long", Error,
        "A URL has 2,048 characters or more.",
        "<loc>https://www.marrowvale.example/?a=… (2,300 characters)</loc>",
        "Shorten the URL: 2,047 characters is the limit.";
    OTHER_HOST = "other-host", Error,
        "A URL has another scheme, host or port than the sitemap. Engines ignore it, unless the robots.txt of that host declares the sitemap.",
        "in https://www.marrowvale.example/sitemap.xml:\n<loc>https://marrowvale.example/fares/</loc>",
        "List only URLs with the scheme, host and port of the sitemap itself.";
    LOC_OUT_OF_SCOPE = "loc-out-of-scope", Warning,
        "A sitemap speaks only for URLs in its own folder and below. Engines lift this rule for files that robots.txt declares.",
        "in /maps/sitemap.xml: <loc>https://www.marrowvale.example/fares/</loc>",
        "Move the sitemap up: it may list only URLs in its own folder and below.";
    DUPLICATE = "duplicate", Warning,
        "A URL is listed more than once.",
        "<url><loc>https://www.marrowvale.example/</loc></url>\n<url><loc>https://www.marrowvale.example/</loc></url>",
        "List each URL once.";
    DISALLOWED = "disallowed", Warning,
        "A listed URL is one that robots.txt forbids engines to fetch.",
        "User-agent: *\nDisallow: /staff/\n\n<loc>https://www.marrowvale.example/staff/rota/</loc>",
        "Allow the URL in robots.txt or leave it out: engines may not fetch it.";
    LASTMOD_NO_DATE = "lastmod-no-date", Error,
        "A lastmod is not a date.",
        "<lastmod>last Tuesday</lastmod>",
        "Write lastmod as YYYY-MM-DD, or with time, seconds and zone.";
    LASTMOD_FORM = "lastmod-form", Warning,
        "A lastmod is a date, but in a form that the published schema does not allow.",
        "<lastmod>2026-11</lastmod>",
        "Write lastmod as YYYY-MM-DD, or with time, seconds and zone: strict readers refuse other forms.";
    LASTMOD_FUTURE = "lastmod-future", Warning,
        "A lastmod lies in the future. Engines stop trusting the dates of the site.",
        "<lastmod>2031-01-01</lastmod>",
        "A page cannot have changed in the future: engines stop trusting the dates.";
    HINT_UNKNOWN = "hint-unknown", Error,
        "A changefreq is not one of the seven words of the protocol, or a priority is not a number from 0.0 to 1.0.",
        "<changefreq>often</changefreq> <priority>7</priority>",
        "Use one of the protocol's seven words as changefreq, and 0.0 to 1.0 as priority.";
    ALTERNATE_LANGUAGE = "alternate-language", Error,
        "The hreflang of a translation is not a language that engines know.",
        "<xhtml:link rel=\"alternate\" hreflang=\"en-UK\" href=\"…\"/>",
        "Use an ISO 639-1 language as hreflang, optionally with an ISO 3166-1 region: en-GB.";
    ALTERNATE_NO_URL = "alternate-no-url", Error,
        "The href of a translation is missing or not an absolute URL.",
        "<xhtml:link rel=\"alternate\" hreflang=\"cy\" href=\"/cy/\"/>",
        "Write an absolute http or https URL as href.";
    ALTERNATE_TWICE = "alternate-twice", Warning,
        "A page names two translations into the same language. Engines take one of them, or none.",
        "hreflang=\"cy\" href=\"…/cy/\" and hreflang=\"cy\" href=\"…/cymraeg/\"",
        "Give each page of a group a language of its own.";
    ALTERNATE_NOT_ITSELF = "alternate-not-itself", Warning,
        "A page with translations does not list itself among them, as the group requires.",
        "<loc>https://www.marrowvale.example/</loc> with only hreflang=\"cy\"",
        "Let each page of a group list all pages of the group, itself included.";
    ALTERNATE_NOT_RETURNED = "alternate-not-returned", Warning,
        "A page names a translation that does not name it in return. Such a link counts for nothing.",
        "/fares/ names /cy/prisiau/, which names no translation",
        "Let the other page link back: one-way links are ignored.";
    ALTERNATE_NOT_IN = "alternate-not-in", Warning,
        "A page names a translation on this site that no sitemap lists.",
        "/fares/ names /cy/prisiau/, which is in no file",
        "List the translation, or remove the link.";
}
