//! Whether the elements and files are there by which consoles know whose site it is.

use super::codes::{OWNERSHIP_ELEMENT, OWNERSHIP_FILE};
use super::findings::{Findings, Place};
use crate::page::metas;

/// What consoles ask for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Ownership {
    /// Elements of the home page: `name` and `content` of a `meta`.
    pub metas: Vec<(String, String)>,
    /// Files in the web root: name and content.
    pub files: Vec<(String, String)>,
}

impl Ownership {
    /// Finds what is missing. `home` is the home page, if it can be read; `read` reads a file of the web root; `root`
    /// is the address of the site.
    pub fn missing(
        &self,
        root: &str,
        home: Option<&[u8]>,
        read: impl Fn(&str) -> Option<Vec<u8>>,
        findings: &mut Findings<'_>,
    ) {
        let there = home.map(metas).unwrap_or_default();
        let has = |(name, content): &&(String, String)| {
            there.iter().any(|(known, value)| known.eq_ignore_ascii_case(name) && value == content)
        };
        // Where the home page is not a file, it is looked at on the live site alone.
        for (name, content) in self.metas.iter().filter(|_| home.is_some()).filter(|meta| !has(meta)) {
            let element = format!("<meta name=\"{}\" content=\"{}\">", escaped(name), escaped(content));
            let what = || format!("the head of the home page lacks {element}");
            findings.add(&OWNERSHIP_ELEMENT, Place::url(root), what);
        }
        let is_there = |name: &str, content: &str| {
            read(name).is_some_and(|bytes| String::from_utf8_lossy(&bytes).trim() == content.trim())
        };
        for (name, content) in self.files.iter().filter(|(name, content)| !is_there(name, content)) {
            let address = format!("{root}{name}");
            let what = || format!("the file {name} is missing, or does not contain “{content}”");
            findings.add(&OWNERSHIP_FILE, Place::url(&address), what);
        }
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accepted::Accepted;

    #[test]
    fn what_is_missing_is_named() {
        let meta = |name: &str, content: &str| (name.to_owned(), content.to_owned());
        let ownership = Ownership {
            metas: vec![meta("lamp-console", "3f9c"), meta("other", "\"x\"")],
            files: vec![meta("lamp.txt", "token"), meta("gone.html", "x")],
        };
        let root = "https://www.marrowvale.example/";
        let read = |name: &str| (name == "lamp.txt").then(|| b"token\n".to_vec());
        let home = b"<meta name='Lamp-Console' content=3f9c><title>Home</title>";
        let missing = |home| {
            let mut findings = Findings::new(Accepted::none());
            ownership.missing(root, home, read, &mut findings);
            findings.finish().findings
        };
        let found = missing(Some(&home[..]));
        let wanted = [
            ("ownership-element", "the head of the home page lacks <meta name=\"other\" content=\"&quot;x&quot;\">"),
            ("ownership-file", "the file gone.html is missing, or does not contain “x”"),
        ];
        let found: Vec<(&str, &str)> = found.iter().map(|one| (one.code, one.what.as_str())).collect();
        assert_eq!(found, wanted);
        assert_eq!(missing(None).len(), 1, "a home page that is no file is not judged");
    }
}
