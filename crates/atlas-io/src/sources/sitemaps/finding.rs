//! Finding the sitemaps that another tool left: in the web root, and in robots.txt.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use atlas_core::address::Site;
use atlas_core::format::read;
use atlas_core::placement::{CHILD_PREFIX, is_packed, packed_name};
use atlas_core::robots::sitemap_lines;
use atlas_store::build::is_own_file;

use super::LARGEST;
use crate::reading::input::{Input, unpacked};
use crate::reading::relative_path;

/// A sitemap in the web root.
struct InWebRoot {
    /// Its path below the web root.
    name: String,
    /// The last parts of the addresses that it lists as an index.
    lists: Vec<String>,
}

/// The sitemaps of a site that this tool did not write, each with its path or URL as it is shown. Files that an index
/// among them lists are not named on their own.
///
/// `kept` is the copy of a main file that this tool has overwritten. `main` is the name of its own main file.
pub fn find_old_sitemaps(
    web_root: &Path,
    site: &Site,
    robots: &[u8],
    (main, kept): (&str, &Path),
) -> Vec<(Input, String)> {
    let mut found: Vec<(Input, String)> = Vec::new();
    if kept.is_file() {
        found.push((Input::File(kept.to_owned()), kept.display().to_string()));
    }
    let mut names = named_in(web_root);
    if kept.is_file() {
        // It is the same, until a build has written over it.
        names.retain(|name| name != main && *name != packed_name(main));
    }
    let mut elsewhere = Vec::new();
    for (_, address) in sitemap_lines(robots) {
        let below = site.address(&address).ok().filter(|address| site.holds(address.as_str()));
        let below = below.map(|address| site.path(address.as_str()).trim_start_matches('/').to_owned());
        match below.filter(|name| relative_path(name).is_some_and(|path| web_root.join(path).is_file())) {
            Some(name) => {
                names.insert(name);
            }
            None => elsewhere.push(address),
        }
    }
    let sitemaps: Vec<InWebRoot> = names.into_iter().filter_map(|name| in_web_root(web_root, site, name)).collect();
    let listed: BTreeSet<String> = sitemaps.iter().flat_map(|sitemap| sitemap.lists.iter().cloned()).collect();
    let stands_alone = |name: &str| {
        let last = name.rsplit('/').next().unwrap_or(name);
        !listed.contains(last) && !listed.contains(last.trim_end_matches(".gz"))
    };
    for sitemap in sitemaps.iter().filter(|sitemap| stands_alone(&sitemap.name)) {
        let path = web_root.join(&sitemap.name);
        found.push((Input::File(path.clone()), path.display().to_string()));
    }
    // What the tool itself declared is no old sitemap, even if it has not been published here.
    let is_ours = |address: &str| {
        let last = address.rsplit('/').next().unwrap_or(address);
        last == main || last == packed_name(main) || last.starts_with(CHILD_PREFIX)
    };
    let elsewhere = elsewhere.into_iter().filter(|address| !is_ours(address) && stands_alone(address));
    found.extend(elsewhere.map(|address| (Input::Url(address.clone()), address)));
    found
}

/// The files in the web root itself that are named like sitemaps. Of a file and its compressed copy, only the file.
fn named_in(web_root: &Path) -> BTreeSet<String> {
    let names = fs::read_dir(web_root).into_iter().flatten().flatten();
    let names: BTreeSet<String> = names.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    let is_like_one = |name: &&String| {
        let name = name.to_lowercase();
        let plain = name.trim_end_matches(".gz");
        name.contains("sitemap") && (plain.ends_with(".xml") || plain.ends_with(".txt"))
    };
    let has_plain = |name: &&String| is_packed(name) && names.contains(name.trim_end_matches(".gz"));
    names.iter().filter(is_like_one).filter(|name| !has_plain(name)).cloned().collect()
}

/// A file in the web root, if it is a sitemap of another tool.
fn in_web_root(web_root: &Path, site: &Site, name: String) -> Option<InWebRoot> {
    let path = web_root.join(&name);
    let is_small = fs::metadata(&path).is_ok_and(|facts| facts.is_file() && facts.len() <= LARGEST);
    let bytes = is_small.then(|| fs::read(&path).ok())??;
    if is_own_file(&name, &bytes, site) {
        return None;
    }
    let mut plain = Vec::new();
    let reader = unpacked(Box::new(std::io::Cursor::new(bytes))).ok()?;
    std::io::Read::read_to_end(&mut std::io::Read::take(reader, LARGEST), &mut plain).ok()?;
    let last =
        |address: &str| address.split(['?', '#']).next().unwrap_or_default().rsplit('/').next().map(str::to_owned);
    let mut lists = Vec::new();
    if plain.trim_ascii_start().starts_with(b"<") || plain.starts_with(b"\xef\xbb\xbf") {
        // A file that breaks off is one all the same; the source reports it.
        let _ = read(&plain, |_| (), |child| lists.extend(child.loc.as_deref().and_then(last)));
        let head = String::from_utf8_lossy(&plain[..plain.len().min(4096)]).into_owned();
        if !head.contains("urlset") && !head.contains("sitemapindex") {
            return None;
        }
    } else if !name.trim_end_matches(".gz").ends_with(".txt") {
        return None;
    }
    Some(InWebRoot { name, lists })
}

#[cfg(test)]
mod tests {
    use super::*;

    const ROOT: &str = "https://www.marrowvale.example/";

    fn index(names: &[&str]) -> String {
        let children: String = names.iter().map(|name| format!("<sitemap><loc>{ROOT}{name}</loc></sitemap>")).collect();
        format!("<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">{children}</sitemapindex>")
    }

    fn list(paths: &[&str]) -> String {
        let urls: String = paths.iter().map(|path| format!("<url><loc>{ROOT}{path}</loc></url>")).collect();
        format!("<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">{urls}</urlset>")
    }

    #[test]
    fn sitemaps_of_others_are_found() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
        write("sitemap-all.xml", &index(&["sitemap-posts.xml"]));
        write("sitemap-posts.xml", &list(&["a/", "b/"]));
        write("about-sitemaps.xml", "<article/>");
        write("sitemap.txt", ROOT);
        write("sitemap.xml", &index(&["atlas-pages-1.xml"]));
        write("atlas-pages-1.xml", &list(&["a/"]));
        fs::create_dir(folder.path().join("feeds")).unwrap();
        write("feeds/map.xml", &list(&["c/"]));
        let robots = format!(
            "Sitemap: {ROOT}sitemap.xml\nSitemap: {ROOT}feeds/map.xml\nSitemap: {ROOT}made/by-an-application\nSitemap: https://sitemaps.example/x.xml\n"
        );
        let site = Site::parse(ROOT).unwrap();
        let kept = folder.path().join("kept.xml");
        let found = find_old_sitemaps(folder.path(), &site, robots.as_bytes(), ("sitemap.xml", &kept));
        let root = format!("{}/", folder.path().display());
        let shown: Vec<&str> = found.iter().map(|(_, shown)| shown.trim_start_matches(&root)).collect();
        assert_eq!(
            shown,
            [
                "feeds/map.xml",
                "sitemap-all.xml",
                "sitemap.txt",
                "https://www.marrowvale.example/made/by-an-application",
                "https://sitemaps.example/x.xml"
            ]
        );
    }
}
