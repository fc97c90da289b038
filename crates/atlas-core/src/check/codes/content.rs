//! Advice about the content of pages. What `survey` remarks on as well has the same code.

use super::declare;

declare! { OF_CONTENT;
    NO_TITLE = "no-title", Advice,
        "A page has no title. It is what a search result shows first.",
        "<head><meta charset=\"utf-8\"></head>",
        "Give the page a title of its own: it is what people click on.";
    TITLES_MANY = "titles-many", Advice,
        "A page has several title elements. Engines take one of them, and not always the right one.",
        "<title>Fares</title> … <title>Marrow Vale</title>",
        "Keep one title: engines may show the other one.";
    TITLE_REPEATED = "title-repeated", Advice,
        "Several pages have the same title. People cannot tell their results apart, and engines may show only one.",
        "<title>Timetable</title> on 12 pages",
        "Say in each title what sets the page apart: results with one title look like one page.";
    DESCRIPTION_REPEATED = "description-repeated", Advice,
        "Several pages have the same description, which then describes none of them.",
        "<meta name=\"description\" content=\"Welcome to our site\"> on 40 pages",
        "Describe each page, or leave the description out: engines then take a passage of the text.";
    MAIN_HEADING_MISSING = "main-heading-missing", Advice,
        "A page has no first-level heading. Readers, screen readers and engines look for what the page is about there.",
        "<h2>Fares</h2> without an h1",
        "Make the heading of the page an h1: it tells what the page is about.";
    MAIN_HEADINGS_MANY = "main-headings-many", Advice,
        "A page has several first-level headings, so that it is unclear which one is its subject.",
        "<h1>Marrow Vale</h1> <h1>Fares</h1>",
        "Keep the h1 for the subject of the page, and use h2 for its parts: several subjects make none clear.";
    HEADING_SKIPPED = "heading-skipped", Advice,
        "A heading is more than one level below the one before. People who read by headings think that they missed something.",
        "<h2>Tickets</h2> <h4>Children</h4>",
        "Use the next level: people who read by headings think that they missed something.";
    LONG_WITHOUT_HEADING = "long-without-heading", Advice,
        "A long page has no heading within its text. Few people read on, and engines find no passage to show.",
        "1,400 words under one h1",
        "Divide the text with headings: engines can show its passages, and people find their place.";
    THIN_PAGE = "thin-page", Advice,
        "A page has few words. Engines often do not take such pages, and like the site less for them.",
        "14 words and a picture",
        "Write more, join it with another page, or leave it out: engines often pass over thin pages.";
    PICTURE_WITHOUT_WORDS = "picture-without-words", Advice,
        "A picture has no alt attribute. People who cannot see it, and engines, learn nothing of it.",
        "<img src=\"viaduct.jpg\">",
        "Describe each picture in its alt attribute: people who cannot see it and engines know nothing else of it. An empty alt marks decoration.";
    UNLINKED = "unlinked", Advice,
        "No other page links to a listed page. Engines take it for unimportant, and visitors do not find it.",
        "/sand-siding/ is in the sitemap, and nothing links to it",
        "Link to it where visitors would look for it, or leave it out: engines take what nothing links to for unimportant.";
    LINK_NOFOLLOW = "link-nofollow", Advice,
        "A link to a page of the same site asks engines not to follow it. It passes nothing on.",
        "<a href=\"/fares/\" rel=\"nofollow\">",
        "Remove nofollow from links within the site: engines value the page less for it.";
    LINKED_NOT_FOUND = "linked-not-found", Warning,
        "A link leads to a page of the site that does not exist.",
        "<a href=\"/old-timetable/\">Timetable</a>",
        "Correct or remove the link: visitors and engines end at an error page.";
    MUCH_NOINDEX = "much-noindex", Warning,
        "Many pages forbid engines to list them, or many more than before. Often a template or a setting does it by mistake.",
        "412 of 900 pages say noindex; at the last build 3 did",
        "Look whether that is intended: a stray noindex takes pages out of all engines.";
    LOOKS_PRIVATE = "looks-private", Warning,
        "A listed page looks as if it were not for everyone: it asks for a password, or lies in a folder with such a name.",
        "/staff/rota/",
        "Leave it out with a rule, and protect it: what is in a sitemap is found.";
    VISITOR_PAGE_UNLINKED = "visitor-page-unlinked", Advice,
        "The page that lists everything for visitors exists, but the home page does not link to it.",
        "atlas.html, and no link to it",
        "Link to it from the footer: it leads visitors and engines everywhere.";
    OLD_SECTION = "old-section", Advice,
        "Nothing in a section has changed for years, while the rest of the site has. Engines visit it ever more rarely.",
        "section news: newest page of 2019, the site's newest of this month",
        "Bring it up to date, mark it as an archive, or leave it out: engines visit it ever more rarely.";
}
