//! Findings about how a server answers.

use super::declare;

declare! { OF_ANSWERS;
    NO_ANSWER = "no-answer", Error,
        "The server did not answer: the name is unknown, the connection is refused or breaks off, or the answer takes too long. Consoles show this as “could not fetch”.",
        "GET /sitemap.xml\nconnection refused",
        "Let the server answer, and look into its firewall: engines come from other networks than you.";
    TLS_TROUBLE = "tls-trouble", Error,
        "The encrypted connection cannot be set up: the certificate has expired, is for another host, or is not from a known authority. Engines give up as browsers do.",
        "GET https://www.marrowvale.example/sitemap.xml\ncertificate expired",
        "Renew the certificate, and serve it with its whole chain.";
    IPV6_TROUBLE = "ipv6-trouble", Warning,
        "The host has an IPv6 address at which nothing answers, while its IPv4 address does. Crawlers that use IPv6 first wait in vain.",
        "www.marrowvale.example AAAA 2001:db8::7\nno answer at [2001:db8::7]:443",
        "Let the server listen at its IPv6 address, or remove the AAAA record.";
    FILE_STATUS = "file-status", Error,
        "The server answers a request for a sitemap file with neither 200 nor 404.",
        "GET /sitemap.xml\n403 Forbidden",
        "Let the server answer 200 to everyone, without a password, cookie or script.";
    FILE_REDIRECT = "file-redirect", Warning,
        "A sitemap file redirects. Engines follow, but some consoles do not, and the file speaks only for the host where it ends up.",
        "GET /sitemap.xml\n301 Moved Permanently\nLocation: https://www.marrowvale.example/map.xml",
        "Declare and submit the address to which it leads.";
    BOT_WALL = "bot-wall", Error,
        "Instead of the file, the server sends a page that is meant to keep programs out. Engines get the same, and cannot read the sitemap.",
        "GET /sitemap.xml\n403 Forbidden\n\n<title>Just a moment…</title> Please enable JavaScript and cookies to continue",
        "Exempt robots.txt and the sitemap files from the protection against bots.";
    CONTENT_TYPE = "content-type", Warning,
        "The media type of the answer is not one of a sitemap. Some engines then do not read the file.",
        "GET /sitemap.xml\nContent-Type: text/html",
        "Serve .xml as application/xml, .gz as application/gzip, and .txt as text/plain.";
    CONTENT_ENCODING = "content-encoding", Error,
        "The bytes are not encoded as the header says: compressed without being declared so, declared but not compressed, or compressed twice.",
        "GET /sitemap.xml\nContent-Type: application/xml\n\n1f 8b 08 …",
        "Send Content-Encoding: gzip exactly if the server compresses the answer on the way, not for files that end in .gz.";
    FILE_SLOW = "file-slow", Warning,
        "The file took more than five seconds. Engines give up on slow files, and show that as “could not fetch”.",
        "GET /sitemap.xml\n200 OK after 14 s",
        "Serve sitemaps as static files rather than from a program, and in smaller parts.";
    FILE_HEAVY = "file-heavy", Advice,
        "The file has more than 10 MiB. It is allowed, but engines give up on heavy files sooner, and fetch the whole for each change.",
        "GET /sitemap.xml\n200 OK, 38 MiB: 31 MiB of it are pictures",
        "Split it into smaller files, or give the heavier part, such as pictures, files of its own.";
}
