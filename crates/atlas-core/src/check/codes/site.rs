//! Findings about the site: robots.txt, its host, and whose it is.

use super::declare;

declare! { OF_SITE;
    ROBOTS_MISSING = "robots-missing", Warning,
        "The host has no robots.txt. Engines may then fetch everything, but nothing tells them where the sitemap is.",
        "GET /robots.txt\n404 Not Found",
        "Put a robots.txt there, so that engines find the sitemap without being told.";
    ROBOTS_FAILING = "robots-failing", Error,
        "The server fails to deliver robots.txt. As long as it does, engines fetch nothing at all from the host (RFC 9309, section 2.3.1.4).",
        "GET /robots.txt\n503 Service Unavailable",
        "Let the server answer 200 with the file, or 404 if there is none.";
    ROBOTS_NOT_TEXT = "robots-not-text", Warning,
        "What is served as robots.txt is a web page. Engines find no rule and no Sitemap line in it.",
        "GET /robots.txt\n200 OK\n\n<!doctype html><title>Marrow Vale</title>",
        "Let the server deliver the file itself, or answer 404 if there is none.";
    ROBOTS_TOO_LARGE = "robots-too-large", Warning,
        "robots.txt is longer than 500 KiB. Engines need not read what comes after that (RFC 9309, section 2.5).",
        "User-agent: *\nDisallow: /journal/1/\nDisallow: /journal/2/\n… and 30,000 more lines",
        "Shorten robots.txt to 500 KiB: engines need not read what comes after that.";
    ROBOTS_ELSEWHERE = "robots-elsewhere", Warning,
        "A robots.txt is in a folder. Engines read only the one at the root of a host.",
        "https://www.marrowvale.example/rail/robots.txt",
        "Put its rules into the robots.txt at the root of the host: engines read no other.";
    NOT_DECLARED = "not-declared", Warning,
        "No Sitemap line in robots.txt names the sitemap, so engines learn of it only if somebody tells them.",
        "User-agent: *\nDisallow: /staff/",
        "Add a line “Sitemap: URL of the main file” to robots.txt, or let a build do it.";
    SITE_SHUT = "site-shut", Error,
        "robots.txt forbids all engines to fetch the home page, and with it usually the whole site.",
        "User-agent: *\nDisallow: /",
        "Remove the rule from robots.txt: it forbids engines to read the site.";
    SITE_REDIRECTS = "site-redirects", Error,
        "The URL of the site redirects to another scheme or host. Every URL in the sitemap then costs a redirect, and consoles for the other host refuse it.",
        "url = \"https://marrowvale.example/\"\n\nGET https://marrowvale.example/\n301 Moved Permanently\nLocation: https://www.marrowvale.example/",
        "Correct [site] url to the address where visitors end up, and build again.";
    SECOND_COPY = "second-copy", Warning,
        "The same sitemap is served under another scheme or host, without a redirect. Engines may take the site for two.",
        "GET http://marrowvale.example/sitemap.xml\n200 OK",
        "Let the other address redirect to this one, for all pages.";
    OWNERSHIP_ELEMENT = "ownership-element", Warning,
        "The home page lacks the element by which an engine's console knows whose site it is.",
        "[[ownership]]\nmeta = { name = \"lamp-console\", content = \"3f9c\" }\n\n<head><title>Marrow Vale</title></head>",
        "Put the element into the head of the home page: consoles forget whose site it is without it.";
    OWNERSHIP_FILE = "ownership-file", Warning,
        "The file by which an engine's console knows whose site it is is missing or has other contents.",
        "[[ownership]]\nfile = { name = \"lamp.txt\", content = \"3f9c\" }\n\nGET /lamp.txt\n404 Not Found",
        "Build again, or put the file into the web root: consoles forget whose site it is without it.";
}
