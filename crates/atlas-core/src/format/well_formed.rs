//! What the parser lets pass although XML 1.0 forbids it.

use std::borrow::Cow;

use memchr::memmem;
use quick_xml::XmlVersion;
use quick_xml::escape::resolve_predefined_entity;
use quick_xml::events::attributes::{Attribute, Attributes};
use quick_xml::events::{BytesRef, BytesStart, Event};

use super::text::is_xml_char;

/// The most elements within each other. A sitemap needs five.
const DEEPEST: usize = 64;

/// What is wrong with an event at a position; `depth` is the number of elements that are open, and `has_root` tells whether the root
/// element has been met.
pub(super) fn fault(event: &Event<'_>, at: u64, depth: usize, has_root: bool) -> Option<String> {
    match event {
        Event::Start(_) if depth == 0 && has_root => Some("a second root element".to_owned()),
        Event::Start(_) if depth >= DEEPEST => Some(format!("more than {DEEPEST} elements within each other")),
        Event::Start(tag) => of_tag(tag),
        Event::PI(instruction) if !is_name(instruction.target()) => {
            Some("a processing instruction without a name".to_owned())
        }
        Event::Decl(_) if at > 0 => Some("an XML declaration that is not at the beginning".to_owned()),
        Event::Text(text) if memmem::find(text, b"]]>").is_some() => Some("“]]>” in a text".to_owned()),
        Event::Text(text) => text.decode().map_or_else(|why| Some(why.to_string()), |text| of_text(&text, depth)),
        Event::CData(text) => text.decode().map_or_else(|why| Some(why.to_string()), |text| of_text(&text, depth)),
        Event::GeneralRef(reference) if depth > 0 => resolved(reference).err(),
        Event::GeneralRef(_) => Some("text outside the root element".to_owned()),
        Event::Decl(declaration) if !is_declaration(declaration) => Some("the XML declaration is malformed".to_owned()),
        Event::Eof if depth > 0 => Some("the file ends in the middle of an element".to_owned()),
        Event::Eof if !has_root => Some("it contains no element".to_owned()),
        _ => None,
    }
}

fn of_tag(tag: &BytesStart<'_>) -> Option<String> {
    if !is_name(tag.name().as_ref()) {
        return Some(format!("“{}” is not a name", String::from_utf8_lossy(tag.name().as_ref())));
    }
    if !is_spaced(tag.attributes_raw()) {
        return Some("no space between two attributes".to_owned());
    }
    tag.attributes().find_map(|attribute| match attribute {
        Err(why) => Some(why.to_string()),
        Ok(attribute) if !is_name(attribute.key.as_ref()) => {
            Some(format!("“{}” is not a name", String::from_utf8_lossy(attribute.key.as_ref())))
        }
        Ok(attribute) if attribute.value.contains(&b'<') => Some("“<” in the value of an attribute".to_owned()),
        Ok(attribute) if attribute.value.contains(&b'&') => {
            attribute.normalized_value(XmlVersion::Implicit1_0).err().map(|why| why.to_string())
        }
        Ok(_) => None,
    })
}

/// Whether a text is a name (XML 1.0 section 2.3). Letters outside ASCII count as letters.
fn is_name(name: &[u8]) -> bool {
    let begins = |byte: u8| byte.is_ascii_alphabetic() || matches!(byte, b'_' | b':') || byte >= 0x80;
    let goes_on = |byte: &u8| begins(*byte) || byte.is_ascii_digit() || matches!(byte, b'-' | b'.');
    name.first().is_some_and(|first| begins(*first)) && name.iter().all(goes_on)
}

/// Whether white space follows each value.
fn is_spaced(attributes: &[u8]) -> bool {
    let mut quote = None;
    let mut after_value = false;
    for &byte in attributes {
        if after_value && !byte.is_ascii_whitespace() {
            return false;
        }
        after_value = false;
        match (quote, byte) {
            (None, b'"' | b'\'') => quote = Some(byte),
            (Some(open), byte) if open == byte => (quote, after_value) = (None, true),
            _ => {}
        }
    }
    true
}

fn of_text(text: &str, depth: usize) -> Option<String> {
    if depth == 0 && !text.trim().is_empty() {
        return Some("text outside the root element".to_owned());
    }
    let letter = text.chars().find(|letter| !is_xml_char(*letter))?;
    Some(format!("XML does not allow the character U+{:04X}", u32::from(letter)))
}

/// The text that a reference stands for: a character, or one of the five entities of XML 1.0 section 4.6. Others would
/// need a document type, which no sitemap has.
pub(super) fn resolved(reference: &BytesRef<'_>) -> Result<Cow<'static, str>, String> {
    let name = reference.decode().map_err(|why| why.to_string())?;
    match reference.resolve_char_ref() {
        Ok(Some(letter)) if is_xml_char(letter) => Ok(Cow::Owned(letter.to_string())),
        Ok(Some(letter)) => Err(format!("XML does not allow the character U+{:04X}", u32::from(letter))),
        Ok(None) => {
            let entity = resolve_predefined_entity(&name).map(Cow::Borrowed);
            entity.ok_or_else(|| format!("unknown entity “&{name};”"))
        }
        Err(why) => Err(why.to_string()),
    }
}

/// Whether an XML declaration is well-formed (XML 1.0 section 2.8): a version, then perhaps an encoding, then perhaps
/// whether the document stands alone.
fn is_declaration(declaration: &[u8]) -> bool {
    let Some(content) = declaration.strip_prefix(b"xml").and_then(|content| std::str::from_utf8(content).ok()) else {
        return false;
    };
    let attributes: Result<Vec<_>, _> = Attributes::new(content, 0).collect();
    let Some(attributes) = attributes.ok().filter(|_| is_spaced(content.as_bytes())) else { return false };
    let known: [&[u8]; 3] = [b"version", b"encoding", b"standalone"];
    let place = |attribute: &Attribute<'_>| known.iter().position(|name| *name == attribute.key.as_ref());
    let places: Option<Vec<usize>> = attributes.iter().map(place).collect();
    let version = attributes.first().and_then(|first| first.value.strip_prefix(b"1."));
    let is_version = version.is_some_and(|minor| !minor.is_empty() && minor.iter().all(u8::is_ascii_digit));
    is_version && places.is_some_and(|places| places.first() == Some(&0) && places.is_sorted())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("url", true)]
    #[case("image:loc", true)]
    #[case("xm<s", false)]
    #[case("]mlns", false)]
    #[case("1a", false)]
    #[case("", false)]
    fn names(#[case] name: &str, #[case] wanted: bool) {
        assert_eq!(is_name(name.as_bytes()), wanted);
    }

    #[rstest]
    #[case(" a=\"1\" b='\"'", true)]
    #[case(" a=\"1\"b=\"2\"", false)]
    #[case(" a=\"1\" ", true)]
    fn attributes_are_spaced(#[case] attributes: &str, #[case] wanted: bool) {
        assert_eq!(is_spaced(attributes.as_bytes()), wanted);
    }
}
