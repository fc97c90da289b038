//! Findings about URLs that are no longer listed.

use super::declare;

declare! { OF_GONE;
    GONE_TO_HOME = "gone-to-home", Warning,
        "A URL that left redirects to the home page. Engines take such a redirect for a missing page: visitors and links are lost.",
        "GET /old-timetable/\n301 Moved Permanently\nLocation: https://www.marrowvale.example/",
        "Redirect it to the page that took its place, or answer 410 if there is none.";
    GONE_DEAD_END = "gone-dead-end", Error,
        "A URL that left redirects to an address that is not there either, or in a circle.",
        "GET /old-timetable/\n301 Moved Permanently\nLocation: /timetable-2025/\n\nGET /timetable-2025/\n404 Not Found",
        "Redirect it straight to a page that exists.";
    GONE_LOST = "gone-lost", Advice,
        "A URL that left answers 404 or 410. That is right if nothing took its place; otherwise its visitors and links are lost.",
        "GET /old-timetable/\n404 Not Found",
        "Redirect it if another page took its place: check --gone --redirects csv proposes one.";
    GONE_STILL_THERE = "gone-still-there", Advice,
        "A URL that left the sitemap still answers 200. Engines keep it, since nothing tells them that it should go.",
        "GET /old-timetable/\n200 OK",
        "Let it answer 404, 410 or a redirect, set noindex, or list it again.";
}
