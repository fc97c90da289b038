//! Resolving `[[ownership]]`: what consoles ask for, to know whose site it is.

use atlas_core::check::Ownership;
use atlas_core::page::metas;
use atlas_core::placement::{CHILD_PREFIX, plain_name};

use super::context::Context;
use super::tables::{At, ElementOrTable, NamedContent, OwnershipTable};
use crate::exit::Failure;

impl Context<'_> {
    /// The elements and files that consoles ask for; `main` is the name of the main file.
    pub(super) fn ownership(&self, tables: &[At<OwnershipTable>], main: &str) -> Result<Ownership, Failure> {
        let mut ownership = Ownership::default();
        for table in tables {
            let OwnershipTable { meta, file } = table.as_ref();
            if meta.is_none() && file.is_none() {
                let message = "[[ownership]] has neither “meta” nor “file”: copy what the console asks for";
                return Err(self.origin.error_at(table.span().start, message));
            }
            if let Some(typed) = meta {
                let found = match typed.as_ref() {
                    ElementOrTable::Table(NamedContent { name, content }) => Some((name.clone(), content.clone())),
                    ElementOrTable::Element(element) => metas(element.as_bytes()).into_iter().next(),
                };
                let named = found.filter(|(name, content)| !name.trim().is_empty() && !content.trim().is_empty());
                ownership.metas.push(named.ok_or_else(|| {
                    let message = "“meta”: expected an element with a name and a content, such as <meta name=\"lamp-console\" content=\"3f9c\">";
                    self.origin.error(typed, message)
                })?);
            }
            if let Some(typed) = file {
                let NamedContent { name, content } = typed.as_ref();
                let is_plain =
                    !name.is_empty() && !name.starts_with('.') && !name.contains(['/', '\\', ':', '?', '#', '%']);
                let is_taken = plain_name(name) == main || name == "robots.txt" || name.starts_with(CHILD_PREFIX);
                if !is_plain || is_taken || name.chars().any(char::is_control) {
                    let message = format!(
                        "“file”: “{name}” cannot be the name of such a file; expected a plain name, such as lamp-console-3f9c.html"
                    );
                    return Err(self.origin.error(typed, message));
                }
                ownership.files.push((name.clone(), content.clone()));
            }
        }
        Ok(ownership)
    }
}
