//! Folders of Markdown articles.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use walkdir::WalkDir;

/// The most files that are looked at.
const MOST_FILES: usize = 20_000;

/// A folder of articles.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArticleFolder {
    /// Its path below the folder that was looked at.
    pub name: String,
    /// The number of articles: files with front matter.
    pub articles: usize,
    /// The number of articles whose front matter says where they are served.
    pub with_url: usize,
    /// The last parts of the addresses of the first articles: their slugs, or the names of their files without a date.
    pub slugs: Vec<String>,
}

/// The folders of articles below a folder, most articles first, except in folders that are left out. A folder stands for
/// all folders below it.
pub fn article_folders(folder: &Path, but: &[PathBuf]) -> Vec<ArticleFolder> {
    let mut found: BTreeMap<String, ArticleFolder> = BTreeMap::new();
    let walk = WalkDir::new(folder).max_depth(8).sort_by_file_name().into_iter().filter_entry(|entry| {
        let name = entry.file_name().to_string_lossy();
        let is_hidden = entry.depth() > 0 && name.starts_with('.');
        let is_vendored = ["node_modules", "target", "vendor", "themes"].contains(&&*name);
        !is_hidden && !is_vendored && !but.iter().any(|one| one == entry.path())
    });
    for entry in walk.flatten().filter(|entry| entry.file_type().is_file()).take(MOST_FILES) {
        let is_article = entry.path().extension().is_some_and(|kind| kind == "md" || kind == "markdown");
        let relative = entry.path().strip_prefix(folder).unwrap_or(entry.path());
        let Some(top) = relative.parent().and_then(|parent| parent.iter().next()).filter(|_| is_article) else {
            continue;
        };
        let Some(front) = fs::read_to_string(entry.path()).ok().and_then(|text| front_matter(&text)) else { continue };
        let name = top.to_string_lossy().into_owned();
        let known =
            found.entry(name.clone()).or_insert(ArticleFolder { name, articles: 0, with_url: 0, slugs: Vec::new() });
        known.articles += 1;
        known.with_url += usize::from(value_of(&front, &["url", "permalink"]).is_some());
        if known.slugs.len() < 200 {
            let stem = entry.path().file_stem().unwrap_or_default().to_string_lossy().into_owned();
            let slug = value_of(&front, &["slug"]).unwrap_or_else(|| without_date(&stem).to_owned());
            known.slugs.push(slug);
        }
    }
    let mut all: Vec<ArticleFolder> = found.into_values().collect();
    all.sort_by_key(|one| std::cmp::Reverse(one.articles));
    all
}

/// The front matter of an article, if it has any.
fn front_matter(text: &str) -> Option<String> {
    let text = text.trim_start_matches('\u{feff}');
    let fence = text.lines().next().map(str::trim_end).filter(|fence| ["---", "+++"].contains(fence))?;
    let lines = text.lines().skip(1).take(200);
    let front: Vec<&str> = lines.take_while(|line| line.trim_end() != fence).collect();
    Some(front.join("\n"))
}

/// The value of a key on a line of its own.
fn value_of(front: &str, names: &[&str]) -> Option<String> {
    let value = |line: &str| {
        let (key, value) = line.split_once([':', '='])?;
        let is_named = names.iter().any(|name| key.trim().eq_ignore_ascii_case(name));
        let value = value.trim().trim_matches(['"', '\'']);
        (is_named && !value.is_empty()).then(|| value.to_owned())
    };
    front.lines().find_map(value)
}

/// A file's name without a date before it.
fn without_date(stem: &str) -> &str {
    let is_date = stem.len() > 11
        && stem.as_bytes()[..10].iter().enumerate().all(|(at, byte)| match at {
            4 | 7 => *byte == b'-',
            _ => byte.is_ascii_digit(),
        });
    if is_date { stem[10..].trim_start_matches(['-', '_']) } else { stem }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_with_front_matter_are_found() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        write("README.md", "# Read me\n");
        write("notes/todo.md", "no front matter\n");
        write("articles/2026/2026-11-01-frost.md", "---\ntitle: Frost\n---\nText\n");
        write("articles/steam.md", "+++\ntitle = \"Steam\"\nslug = \"steam-up\"\nurl = \"/steam/\"\n+++\n");
        write("public/copy.md", "---\ntitle: Copy\n---\n");
        let found = article_folders(folder.path(), &[folder.path().join("public")]);
        let wanted = ArticleFolder {
            name: "articles".into(),
            articles: 2,
            with_url: 1,
            slugs: vec!["frost".into(), "steam-up".into()],
        };
        assert_eq!(found, [wanted]);
    }
}
