//! Which addresses may be fetched because a page names them.

use std::net::IpAddr;

use atlas_core::address::{Address, Site};

/// Whether an address that a page names may be fetched. Addresses of this machine and of private networks may be
/// fetched only if the site itself is there.
pub(crate) fn may_be_asked(link: &Address, site: &Site) -> bool {
    if link.host() == site.root().host() {
        return true;
    }
    let host = link.host();
    let name = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or(""),
        None => host.split(':').next().unwrap_or(""),
    };
    match name.parse::<IpAddr>() {
        Ok(_) => false,
        Err(_) => {
            name.contains('.')
                && !name.ends_with(".localhost")
                && !name.ends_with(".internal")
                && !name.ends_with(".local")
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://films.example/oembed", true)]
    #[case("http://127.0.0.1:9/oembed", false)]
    #[case("http://[::1]/oembed", false)]
    #[case("http://10.0.0.7/oembed", false)]
    #[case("http://localhost/oembed", false)]
    #[case("https://www.marrowvale.example/oembed", true)]
    fn pages_cannot_direct_requests_anywhere(#[case] link: &str, #[case] wanted: bool) {
        let site = Site::parse("https://www.marrowvale.example/").unwrap();
        assert_eq!(may_be_asked(&Address::parse(link).unwrap(), &site), wanted);
    }
}
