//! Findings about sitemap files.

use super::declare;

declare! { OF_FILES;
    OUT_OF_REACH = "out-of-reach", Advice,
        "A file that is named lies outside the web root, so it cannot be checked from here.",
        "Sitemap: https://cdn.example/sitemap.xml",
        "Check it where it is: it is not below this web root.";
    SITEMAP_SHUT = "sitemap-shut", Error,
        "robots.txt forbids engines to fetch a sitemap file.",
        "User-agent: *\nDisallow: /*.xml\n\nSitemap: https://www.marrowvale.example/sitemap.xml",
        "Allow the sitemap in robots.txt: engines may not fetch it.";
    FILE_MISSING = "file-missing", Error,
        "A sitemap file that robots.txt or an index names does not exist.",
        "<sitemap><loc>https://www.marrowvale.example/gone.xml</loc></sitemap>",
        "Build again, or remove the line that names the file.";
    FILE_BROKEN = "file-broken", Error,
        "A file cannot be read or unpacked.",
        "sitemap.xml.gz: the compressed data ends early",
        "Build again.";
    UNLISTED_FILE = "unlisted-file", Warning,
        "A sitemap file lies in the web root, but no index lists it and robots.txt does not declare it, so engines do not find it. It may be left over from another tool.",
        "sitemap-old.xml, beside a sitemap.xml that does not list it",
        "List it in the index, declare it in robots.txt, or delete it.";
    NOT_UTF8 = "not-utf8", Error,
        "The file is not in UTF-8, which the protocol requires.",
        "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>",
        "Save the file as UTF-8, and say so in the XML declaration or not at all.";
    NOT_WELL_FORMED = "not-well-formed", Error,
        "The file is not well-formed XML. Engines stop reading at that point or refuse the whole file.",
        "<url><loc>https://www.marrowvale.example/?a=1&b=2</loc></url>",
        "Repair the XML at that line, or build again: engines give up on the whole file.";
    BEFORE_DECLARATION = "before-declaration", Error,
        "Something, often a blank line, comes before the XML declaration. XML forbids it, and engines refuse the file.",
        "\n<?xml version=\"1.0\" encoding=\"UTF-8\"?>",
        "Remove everything before “<?xml”, including blank lines. A server or template often adds it.";
    BYTE_ORDER_MARK = "byte-order-mark", Advice,
        "The file begins with a byte-order mark. It is legal, but some readers stumble over it.",
        "ef bb bf <?xml version=\"1.0\"?>",
        "Save the file without a byte-order mark: some readers cannot handle it.";
    OTHER_ROOT = "other-root", Error,
        "The root element is not that of a sitemap or feed, or not in its namespace.",
        "<urlset><url><loc>https://www.marrowvale.example/</loc></url></urlset>",
        "Use urlset or sitemapindex, in the namespace of the protocol, as the root element.";
    NOTHING_IN_IT = "nothing-in-it", Error,
        "The file lists nothing. The protocol requires at least one entry.",
        "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"></urlset>",
        "Remove files without entries: the protocol requires at least one.";
    TOO_MANY_URLS = "too-many-urls", Error,
        "The file lists more than 50,000 URLs. Engines ignore the rest or refuse the file.",
        "a urlset with 61,204 url elements",
        "Split the file: 50,000 URLs is the limit.";
    TOO_MANY_FILES = "too-many-files", Error,
        "The index lists more than 50,000 files.",
        "a sitemapindex with 50,001 sitemap elements",
        "Use several indexes: 50,000 files is the limit for one.";
    TOO_MANY_BYTES = "too-many-bytes", Error,
        "The file has more than 52,428,800 bytes, unpacked.",
        "sitemap.xml.gz of 6 MiB, which unpacks to 80 MiB",
        "Split the file: 52,428,800 bytes unpacked is the limit.";
    INDEX_IN_INDEX = "index-in-index", Error,
        "An index lists another index. The protocol allows only sitemap files, and some engines do not read further.",
        "<sitemap><loc>https://www.marrowvale.example/sitemap-index-2.xml</loc></sitemap>",
        "An index lists sitemaps only: name the files of the inner index in the outer one.";
    INDEX_LOOP = "index-loop", Error,
        "An index lists itself, or an index that leads back to it, or indexes lie too deep within each other.",
        "in sitemap.xml: <sitemap><loc>https://www.marrowvale.example/sitemap.xml</loc></sitemap>",
        "List only files with URLs in the index.";
    CHILD_ELSEWHERE = "child-elsewhere", Error,
        "An index lists a file of another host, or one that is not in its own folder or below it.",
        "in /maps/sitemap.xml: <sitemap><loc>https://www.marrowvale.example/pages.xml</loc></sitemap>",
        "Put the files of an index into its own folder or below it, on the same host.";
    INDEX_BEHIND = "index-behind", Warning,
        "The index gives a date for a file that is older than a date in the file, so engines think that they know it already.",
        "<sitemap><loc>…/pages.xml</loc><lastmod>2026-10-01</lastmod></sitemap>\nin pages.xml: <lastmod>2026-11-02</lastmod>",
        "In the index, give the date when the file last changed; otherwise engines will not fetch it again.";
    COPY_DIFFERS = "copy-differs", Error,
        "The compressed copy beside a file has other contents. Servers that send precompressed files send the old one.",
        "sitemap.xml of today, sitemap.xml.gz of last week",
        "Build again: servers that send precompressed files send the old one.";
    SECTION_SHUT = "section-shut", Error,
        "robots.txt forbids engines to fetch every URL of a file.",
        "User-agent: *\nDisallow: /journal/\n\nall URLs of journal.xml begin with /journal/",
        "Allow these URLs in robots.txt or leave the section out: engines may fetch none of them.";
    ELEMENT_ORDER = "element-order", Warning,
        "Elements are not in the order of the published schema. Strict readers refuse the file.",
        "<url><lastmod>2026-11-01</lastmod><loc>https://www.marrowvale.example/</loc></url>",
        "Write loc, lastmod, changefreq, priority in this order, then elements of extensions, each in the order of its schema.";
    ELEMENT_TWICE = "element-twice", Warning,
        "An element that may occur once is there several times. The first counts.",
        "<url><loc>https://www.marrowvale.example/</loc><loc>https://www.marrowvale.example/fares/</loc></url>",
        "Write it once, and give each URL a url element of its own.";
    ELEMENT_UNKNOWN = "element-unknown", Warning,
        "The protocol or an extension has no such element. Engines ignore it; it may be a slip.",
        "<url><loc>https://www.marrowvale.example/</loc><lastmodified>2026-11-01</lastmodified></url>",
        "Correct the name or remove the element: engines ignore it.";
    NAMESPACE = "namespace", Error,
        "An element of the protocol or an extension is not in its namespace, so engines do not see it.",
        "<url><loc>…</loc><image:image>…</image:image></url> without xmlns:image at the root",
        "Declare the element's namespace at the root, and use its prefix: engines ignore the element.";
    NAMESPACE_UNKNOWN = "namespace-unknown", Advice,
        "An element is in a namespace that is not one of the protocol or its known extensions. It is allowed, but no large engine reads it.",
        "<url><loc>…</loc><lamp:oil xmlns:lamp=\"https://lamp.example/oil\"/></url>",
        "Remove it, unless a reader of yours needs it.";
    WITHDRAWN = "withdrawn", Advice,
        "An element or attribute was withdrawn from its extension. It does no harm, and nothing reads it.",
        "<image:image><image:loc>…</image:loc><image:caption>Cab</image:caption></image:image>",
        "Leave it out: it only makes the file heavier.";
    DATES_ALL_SAME = "dates-all-same", Warning,
        "Every lastmod of the site is the same. Engines conclude that the dates mean nothing, and ignore them.",
        "all 214 entries with <lastmod>2026-11-30</lastmod>",
        "Give each page the date of its own last change, or no date.";
    DATES_NOW = "dates-now", Warning,
        "Every lastmod in the file is the moment of the request: it is made up each time. Engines notice, and ignore all dates of the site.",
        "fetched at 12:00:00Z: all 214 entries with <lastmod>2026-11-30T12:00:00Z</lastmod>",
        "Give each page the date of its own last change, or no date.";
}
