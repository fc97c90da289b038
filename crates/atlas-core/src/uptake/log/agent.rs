//! Which crawler a user agent names. No list of names is built in.

/// The longest product token that is believed.
pub const MOST_TOKEN: usize = 64;

/// What crawlers call themselves, whoever runs them.
const WORDS: [&[u8]; 3] = [b"bot", b"crawl", b"spider"];

/// Whether a byte may be part of a token (RFC 9110, section 5.6.2).
fn is_token(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&byte)
}

/// The product token (RFC 9110, section 10.1.5) by which a crawler names itself in its user agent, in lower case;
/// `None` for a browser. A crawler names a product that is called a bot, a crawler or a spider, or it says where to read
/// about it: `+https://…`.
///
/// ```
/// use atlas_core::uptake::log::product_token;
///
/// let token = |agent: &str| product_token(agent.as_bytes());
/// assert_eq!(token("lampbot/1.0 (+https://lampbot.example/)").as_deref(), Some("lampbot"));
/// assert_eq!(token("Mozilla/5.0 (compatible; Lampbot-Image/2.1; +http://lampbot.example/)").as_deref(), Some("lampbot-image"));
/// assert_eq!(token("Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"), None);
/// ```
pub fn product_token(agent: &[u8]) -> Option<String> {
    let words: Vec<&[u8]> = agent
        .split(|byte| !is_token(*byte))
        .filter(|word| !word.is_empty() && word.len() <= MOST_TOKEN)
        .take(64)
        .collect();
    // What stands behind “+” is an address, not a product.
    let lower: Vec<Vec<u8>> = words.iter().map(|word| word.to_ascii_lowercase()).collect();
    let is_address = |word: &[u8]| word.starts_with(b"+") || word.starts_with(b"http") || word.starts_with(b"www.");
    let mut after_address = false;
    let mut products: Vec<&[u8]> = Vec::new();
    for word in &lower {
        if is_address(word) {
            after_address = true;
        } else if !after_address {
            products.push(word);
        }
    }
    let named = |word: &&&[u8]| WORDS.iter().any(|part| memchr::memmem::find(word, part).is_some());
    let says_where = lower.iter().any(|word| word.starts_with(b"+http"));
    let first = || products.iter().find(|word| says_where && is_product(word));
    let found = products.iter().filter(named).find(|word| is_product(word)).or_else(first)?;
    let name = found.split(|byte| *byte == b'/').next().unwrap_or(found);
    Some(String::from_utf8_lossy(name).trim_end_matches('.').to_owned())
}

/// Whether a word can be the name of a product: not what every browser says, and no number or host.
fn is_product(word: &[u8]) -> bool {
    let usual: [&[u8]; 8] =
        [b"mozilla", b"compatible", b"applewebkit", b"khtml", b"like", b"gecko", b"linux", b"windows"];
    !usual.contains(&word) && word.first().is_some_and(u8::is_ascii_alphabetic) && !word.contains(&b'.')
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("lampbot/1.0", Some("lampbot"))]
    #[case("LampBot", Some("lampbot"))]
    #[case("Mozilla/5.0 (compatible; lampbot/2.1; +http://www.lampbot.example/bot.html)", Some("lampbot"))]
    #[case(
        "Mozilla/5.0 AppleWebKit/537.36 (KHTML, like Gecko; compatible; lampbot/2.1; +http://lampbot.example/bot.html) Chrome/156.0 Safari/537.36",
        Some("lampbot")
    )]
    #[case("Wick/3.1 (+https://wick.example/about)", Some("wick"))]
    #[case("Sitecrawler (info@lamp.example)", Some("sitecrawler"))]
    #[case(
        "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0.0.0 Safari/537.36",
        None
    )]
    #[case("curl/8.5.0", None)]
    #[case("", None)]
    #[case("\u{1b}[31m<b>bot</b>", Some("bot"))]
    fn crawlers_name_themselves(#[case] agent: &str, #[case] wanted: Option<&str>) {
        assert_eq!(product_token(agent.as_bytes()).as_deref(), wanted);
    }

    proptest! {
        #[test]
        fn a_token_is_harmless(agent in proptest::collection::vec(any::<u8>(), 0..200)) {
            if let Some(token) = product_token(&agent) {
                prop_assert!(token.len() <= MOST_TOKEN && token.bytes().all(is_token), "{token}");
            }
        }
    }
}
