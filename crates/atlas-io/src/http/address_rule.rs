//! Which addresses may be fetched because a page names them.

use std::net::IpAddr;

use atlas_core::address::{Address, Site};

/// Whether an address that a page names may be fetched. Addresses of this machine and of private networks may be
/// fetched only if the site itself is there.
pub(crate) fn may_be_asked(link: &Address, site: &Site) -> bool {
    may_lead(site.root().host(), link.host())
}

/// Whether one host may lead to another, by a link or a redirect; both may have a port. To addresses of this machine and
/// of private networks, and to hosts without a name, only the same host and port may.
pub(crate) fn may_lead(from: &str, to: &str) -> bool {
    from == to || is_public(to)
}

fn is_public(host: &str) -> bool {
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

    #[rstest]
    #[case::another_port_of_this_machine("127.0.0.1:8080", "127.0.0.1:22", false)]
    #[case::the_same_port("127.0.0.1:8080", "127.0.0.1:8080", true)]
    #[case::from_outside("www.marrowvale.example", "192.168.0.1", false)]
    #[case::a_public_host("www.marrowvale.example", "films.example", true)]
    #[case::out_of_this_machine("127.0.0.1:8080", "films.example", true)]
    fn redirects_lead_to_public_hosts(#[case] from: &str, #[case] to: &str, #[case] wanted: bool) {
        assert_eq!(may_lead(from, to), wanted);
    }
}
