//! Whether the elements and files are there by which consoles know whose site it is.

use super::codes::{FindingKind, OWNERSHIP_ELEMENT, OWNERSHIP_FILE};
use crate::page::metas;
use crate::report::Finding;

/// What consoles ask for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Ownership {
    /// Elements of the home page: `name` and `content` of a `meta`.
    pub metas: Vec<(String, String)>,
    /// Files in the web root: name and content.
    pub files: Vec<(String, String)>,
}

impl Ownership {
    /// What is missing. `home` is the home page, if it can be read; `read` reads a file of the web root; `root` is the
    /// address of the site.
    pub fn missing(&self, root: &str, home: Option<&[u8]>, read: impl Fn(&str) -> Option<Vec<u8>>) -> Vec<Finding> {
        let there = home.map(metas).unwrap_or_default();
        let has = |(name, content): &&(String, String)| {
            there.iter().any(|(known, value)| known.eq_ignore_ascii_case(name) && value == content)
        };
        // Where the home page is not a file, it is looked at on the live site alone.
        let elements = self.metas.iter().filter(|_| home.is_some()).filter(|meta| !has(meta)).map(|(name, content)| {
            let element = format!("<meta name=\"{}\" content=\"{}\">", escaped(name), escaped(content));
            finding(&OWNERSHIP_ELEMENT, root.to_owned(), format!("the head of the home page lacks {element}"))
        });
        let is_there = |name: &str, content: &str| {
            read(name).is_some_and(|bytes| String::from_utf8_lossy(&bytes).trim() == content.trim())
        };
        let files = self.files.iter().filter(|(name, content)| !is_there(name, content)).map(|(name, content)| {
            let message = format!("the file {name} is missing, or does not contain “{content}”");
            finding(&OWNERSHIP_FILE, format!("{root}{name}"), message)
        });
        elements.chain(files).collect()
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('"', "&quot;")
}

fn finding(kind: &FindingKind, file: String, message: String) -> Finding {
    Finding { code: kind.code, severity: kind.severity, file, line: None, count: 1, message, mend: kind.mend }
}

#[cfg(test)]
mod tests {
    use super::*;

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
        let found = ownership.missing(root, Some(home), read);
        let wanted = [
            ("ownership-element", "the head of the home page lacks <meta name=\"other\" content=\"&quot;x&quot;\">"),
            ("ownership-file", "the file gone.html is missing, or does not contain “x”"),
        ];
        let found: Vec<(&str, &str)> = found.iter().map(|one| (one.code, one.message.as_str())).collect();
        assert_eq!(found, wanted);
        assert_eq!(ownership.missing(root, None, read).len(), 1, "a home page that is no file is not judged");
    }
}
