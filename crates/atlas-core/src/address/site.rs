//! The site, and which addresses belong to it.

use super::spelling::{encode_path, is_plain};
use super::{Address, AddressError, origin, path};
use serde::Serialize;

/// The site as its visitors reach it: scheme, host, port and, if it lives in a folder, that folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Site {
    root: Address,
    /// The length of the scheme, host and port.
    origin: usize,
}

impl Site {
    /// Parses the site's URL. A missing closing slash is added.
    ///
    /// # Errors
    ///
    /// Returns an [`AddressError`] if the text is not an absolute `http` or `https` URL.
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let address = Address::parse(text)?;
        let folder = match address.as_str().split_once('?') {
            Some((before, _)) => before.to_owned(),
            None => address.0,
        };
        let root = if folder.ends_with('/') { folder } else { folder + "/" };
        Ok(Self { origin: origin(&root).len(), root: Address(root) })
    }

    /// The address of a path on the site's host, whatever folder the site lives in.
    pub fn of_host(&self, path: &str) -> Address {
        Address(format!("{}{path}", self.root.origin()))
    }

    /// The home page's address, which ends with a slash.
    pub fn root(&self) -> &Address {
        &self.root
    }

    /// Parses a URL of this site: absolute, from the host's root (`/halts/`), or relative to the site's folder. A URL
    /// that begins with the site's root and consists of plain bytes is accepted without a full parse.
    ///
    /// # Errors
    ///
    /// Returns an [`AddressError`] if the text is not a URL, or its scheme is not `http` or `https`.
    pub fn address(&self, text: &str) -> Result<Address, AddressError> {
        let text = text.trim();
        if let Some(address) = self.plain(text) {
            return Ok(Address(address.to_owned()));
        }
        if text.is_empty() {
            return Err(AddressError::Empty);
        }
        if let Some(rest) = text.strip_prefix('/')
            && !rest.starts_with('/')
            && is_plain(rest)
        {
            return Ok(Address([self.root.origin(), text].concat()));
        }
        self.root.join(text)
    }

    /// The address of a request's target on the site's host, written into `buffer`: [`Site::address`] without an
    /// allocation for each.
    ///
    /// # Errors
    ///
    /// As [`Site::address`].
    pub fn address_in<'b>(&self, target: &str, buffer: &'b mut String) -> Result<&'b str, AddressError> {
        buffer.clear();
        match target.strip_prefix('/') {
            Some(rest) if !rest.starts_with('/') && is_plain(rest) => {
                buffer.push_str(self.root.origin());
                buffer.push_str(target);
            }
            _ => buffer.push_str(self.address(target)?.as_str()),
        }
        Ok(buffer)
    }

    /// Returns the text unchanged if it is an address of this site in its normal spelling; `None` if it has to be
    /// parsed.
    pub fn plain<'t>(&self, text: &'t str) -> Option<&'t str> {
        text.strip_prefix(self.root.as_str()).filter(|rest| is_plain(rest)).map(|_| text)
    }

    /// The address of a file below the site's root, from its path with forward slashes. Every byte that a path segment
    /// may not hold raw is percent-encoded, including `%`, `?` and `#`: the text is a file name, not a URL.
    pub fn of_file(&self, relative: &str) -> Address {
        Address(format!("{}{}", self.root, encode_path(relative)))
    }

    /// Whether the address belongs to the site: same scheme, host and port, and within its folder.
    pub fn holds(&self, address: &str) -> bool {
        address.starts_with(self.root.as_str())
    }

    /// Respells an address that means this site but is spelt differently: http for https or the reverse, with or
    /// without `www.`. Returns `None` for the site's own addresses and for those of other sites.
    ///
    /// ```
    /// use atlas_core::address::Site;
    ///
    /// let site = Site::parse("https://www.marrowvale.example/").unwrap();
    /// let right = site.respelt("http://marrowvale.example/fares/");
    /// assert_eq!(right.as_deref(), Some("https://www.marrowvale.example/fares/"));
    /// assert_eq!(site.respelt("https://www.marrowvale.example/fares/"), None);
    /// assert_eq!(site.respelt("https://shop.example/fares/"), None);
    /// ```
    pub fn respelt(&self, address: &str) -> Option<String> {
        fn bare(origin: &str) -> (&str, Option<&str>) {
            let authority = origin.split_once("://").map_or(origin, |(_, authority)| authority);
            let (host, port) = match authority.rsplit_once(':') {
                Some((host, port)) if !port.ends_with(']') => (host, Some(port)),
                _ => (authority, None),
            };
            (host.strip_prefix("www.").unwrap_or(host), port)
        }
        let (theirs, ours) = (origin(address), self.root.origin());
        if theirs == ours || bare(theirs) != bare(ours) {
            return None;
        }
        let right = format!("{ours}{}", &address[theirs.len()..]);
        self.holds(&right).then_some(right)
    }

    /// Path and query of an address, from the slash that ends the origin.
    pub fn path<'t>(&self, address: &'t str) -> &'t str {
        if self.holds(address) { &address[self.origin..] } else { path(address) }
    }
}
