//! Addresses that mean the same, or are much alike.

/// An address without what people get wrong most: scheme, `www.`, the slash at the end, `index.html`, `.html`, the case of letters.
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

/// Whether two addresses in their normal spelling lead to the same page: they do where they differ only in whether a character
/// that a path may hold as it is was escaped. RFC 3986 section 2.2 keeps such addresses apart, servers of files do not.
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

/// The address with escapes of characters undone that its path may hold as they are, the slash apart.
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
