//! Mapping addresses to files of a folder.

use std::path::PathBuf;

/// The path of a URL as a file path below a folder: decoded, and never outside the folder.
pub fn relative_path(path: &str) -> Option<PathBuf> {
    let path = path.split('?').next()?;
    let parsed = url::Url::parse("http://placeholder.example").ok()?.join(path).ok()?;
    let mut relative = PathBuf::new();
    for segment in parsed.path_segments()? {
        let segment = percent_encoding::percent_decode_str(segment).decode_utf8().ok()?;
        if segment == ".." || segment.contains(['/', '\\', '\0']) {
            return None;
        }
        relative.push(segment.as_ref());
    }
    Some(relative)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/halts/", Some("halts"))]
    #[case("/a%20b/c.html?x=1", Some("a b/c.html"))]
    #[case("/../../etc/passwd", Some("etc/passwd"))]
    #[case("/%2e%2e/x", Some("x"))]
    #[case("/..%2fx", None)]
    fn paths_never_leave_the_folder(#[case] path: &str, #[case] wanted: Option<&str>) {
        let found = relative_path(path).map(|path| path.components().collect::<PathBuf>());
        assert_eq!(found, wanted.map(PathBuf::from));
    }
}
