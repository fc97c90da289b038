//! Findings about pages on the live site. Those that `survey` knows as reasons have the same codes.

use super::declare;

declare! { OF_PAGES;
    NO_PAGE = "no-page", Error,
        "A listed URL answers 404 or 410, or with another status that says that nothing is there.",
        "GET /old-timetable/\n404 Not Found",
        "Take the URL out of the sitemap, or let it redirect to its successor.";
    SERVER_ERROR = "server-error", Error,
        "The server fails to deliver a listed page.",
        "GET /timetable/\n500 Internal Server Error",
        "Look into the server's error log: engines drop pages that keep failing.";
    REFUSED = "refused", Error,
        "The server refuses a listed page to strangers.",
        "GET /members/\n401 Unauthorized",
        "Leave out what is not public, or open it.";
    REDIRECT = "redirect", Error,
        "A listed URL redirects. Engines take the target instead, and report this one as not taken.",
        "GET /fares\n301 Moved Permanently\nLocation: https://www.marrowvale.example/fares/",
        "List the address to which it leads.";
    NOINDEX = "noindex", Error,
        "A listed page forbids engines to list it, in a robots element or a header.",
        "<meta name=\"robots\" content=\"noindex\">",
        "Remove the noindex, or take the URL out of the sitemap: both at once is a contradiction.";
    CANONICAL_ELSEWHERE = "canonical-elsewhere", Error,
        "A listed page names another URL as its canonical address. Engines take that one.",
        "GET /fares/?print=1\n<link rel=\"canonical\" href=\"https://www.marrowvale.example/fares/\">",
        "List the canonical address, or correct the canonical link.";
    SOFT_404 = "soft-404", Error,
        "A listed URL answers 200 with the text that the server shows for addresses that do not exist. Engines take it for missing.",
        "GET /old-timetable/\n200 OK\n\nSorry, we cannot find that page.",
        "Let the server answer 404 for pages that do not exist, and take the URL out.";
    NOT_A_PAGE = "not-a-page", Warning,
        "What a listed URL delivers is not a page that engines list.",
        "GET /atlas.css\nContent-Type: text/css",
        "Take the URL out of the sitemap.";
    PAGE_SLOW = "page-slow", Warning,
        "The server took more than three seconds for a page. Engines fetch less from slow servers.",
        "GET /timetable/\n200 OK after 9 s",
        "Let a cache answer, or look for what keeps the page waiting.";
    PAGE_BLOCKED = "page-blocked", Error,
        "Instead of a listed page, the server sends one that is meant to keep programs out. Engines get the same.",
        "GET /fares/\n403 Forbidden\n\nPlease enable JavaScript and cookies to continue",
        "Exempt the crawlers of engines from the protection against bots.";
    PICTURE_MISSING = "picture-missing", Warning,
        "A picture of a listed page does not answer with a picture.",
        "<image:loc>https://www.marrowvale.example/viaduct.jpg</image:loc>\n404 Not Found",
        "Correct the address, or remove the picture.";
    THUMBNAIL_MISSING = "thumbnail-missing", Error,
        "The thumbnail of a video does not answer with a picture. Engines then ignore the video.",
        "<video:thumbnail_loc>https://www.marrowvale.example/cab.jpg</video:thumbnail_loc>\n404 Not Found",
        "Correct the address of the thumbnail.";
    VIDEO_MISSING = "video-missing", Warning,
        "The media file or player of a video does not answer.",
        "<video:content_loc>https://www.marrowvale.example/cab.mp4</video:content_loc>\n404 Not Found",
        "Correct the address, or remove the video.";
}
