//! Comparing addresses that mean the same, or that look alike.

/// An address without the parts that people most often get wrong: scheme, `www.`, trailing slash, `index.html`, `.html`
/// and the case of letters.
///
/// ```
/// use atlas_core::address::in_short;
///
/// assert_eq!(in_short("http://Marrowvale.example/Fares/index.html"), in_short("https://www.marrowvale.example/fares"));
/// ```
pub fn in_short(address: &str) -> String {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest).to_lowercase();
    let rest = rest.strip_prefix("www.").unwrap_or(&rest);
    let rest = rest.strip_suffix("index.html").or(rest.strip_suffix(".html")).unwrap_or(rest);
    rest.trim_end_matches('/').to_owned()
}

/// Whether two addresses in their normal spelling lead to the same page: they do if they differ only in the escaping of
/// characters that a path may hold raw. RFC 3986 section 2.2 treats such addresses as different; file servers do not.
///
/// ```
/// use atlas_core::address::is_same;
///
/// assert!(is_same("https://www.marrowvale.example/chair-%28oak%29/", "https://www.marrowvale.example/chair-(oak)/"));
/// assert!(!is_same("https://www.marrowvale.example/a%2Fb", "https://www.marrowvale.example/a/b"));
/// ```
pub fn is_same(one: &str, other: &str) -> bool {
    one == other || ((one.contains('%') || other.contains('%')) && bare_path(one) == bare_path(other))
}

/// Undoes the escapes of characters that a path may hold raw, except the slash.
fn bare_path(address: &str) -> String {
    let (path, query) = address.split_at(address.find('?').unwrap_or(address.len()));
    let escapes = [
        ("%21", "!"),
        ("%24", "$"),
        ("%26", "&"),
        ("%27", "'"),
        ("%28", "("),
        ("%29", ")"),
        ("%2A", "*"),
        ("%2B", "+"),
        ("%2C", ","),
        ("%3A", ":"),
        ("%3B", ";"),
        ("%3D", "="),
        ("%40", "@"),
    ];
    escapes.iter().fold(path.to_owned(), |path, (escape, letter)| path.replace(escape, letter)) + query
}
