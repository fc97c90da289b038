//! What can be configured, made from the types of the tables and their comments: as a JSON Schema for editors, and as a
//! list of keys for the reference and for `config show`.

use atlas_io::engines::PROTOCOLS;
use schemars::generate::SchemaSettings;
use serde_json::{Map, Value, json};

use super::file::ConfigFile;
use super::sources::{ALL_TAKE, KEYS};

/// A table of the configuration.
#[derive(Debug)]
pub struct TableFacts {
    /// Its name: `files`, without brackets.
    pub name: String,
    /// Whether there may be several: `[[section]]`.
    pub is_list: bool,
    /// Its meaning.
    pub meaning: String,
    /// Its keys, in order.
    pub keys: Vec<KeyFacts>,
}

/// A key of a table.
#[derive(Debug)]
pub struct KeyFacts {
    /// Its name.
    pub name: String,
    /// Its meaning.
    pub meaning: String,
    /// What it takes: `text`, `number`, `list` and the like.
    pub takes: String,
    /// The words that it takes, if it takes no others.
    pub words: Vec<String>,
    /// What holds without it.
    pub default: Option<Value>,
    /// A line with it, as TOML.
    pub example: Option<String>,
    /// Whether the table needs it.
    pub is_needed: bool,
    /// Whether its value may be a secret.
    pub is_secret: bool,
    /// Of a source or an engine: the kinds or protocols that take it, if not all do.
    pub kinds: Vec<&'static str>,
}

impl TableFacts {
    /// Its name in brackets, as in the file.
    pub fn heading(&self) -> String {
        if self.is_list { format!("[[{}]]", self.name) } else { format!("[{}]", self.name) }
    }
}

impl KeyFacts {
    /// What it takes, whether it is needed, and what holds without it, in words.
    pub fn nature(&self) -> String {
        let words = if self.words.is_empty() { String::new() } else { format!(": {}", self.words.join(", ")) };
        let default = match &self.default {
            Some(default) => format!("; default: {}", in_toml(default)),
            None if self.is_needed => "; needed".to_owned(),
            None => String::new(),
        };
        let kinds =
            if self.is_for_all_or_says_so() { String::new() } else { format!("; only {}", self.kinds.join(", ")) };
        format!("{}{words}{default}{kinds}", self.takes)
    }

    /// Whether all kinds take it, or its meaning begins with the one that does.
    pub fn is_for_all_or_says_so(&self) -> bool {
        self.kinds.is_empty() || self.kinds.iter().any(|kind| self.meaning.starts_with(*kind))
    }

    /// A line of TOML with it, if the default alone does not show how it is written.
    pub fn shown_example(&self) -> Option<&str> {
        self.example.as_deref()
    }
}

/// A value as TOML, on one line.
pub fn in_toml(value: &Value) -> String {
    match value {
        Value::String(text) => toml::Value::String(text.clone()).to_string(),
        Value::Array(items) => format!("[{}]", items.iter().map(in_toml).collect::<Vec<_>>().join(", ")),
        Value::Object(members) => {
            let members: Vec<String> =
                members.iter().map(|(key, value)| format!("{} = {}", key_in_toml(key), in_toml(value))).collect();
            format!("{{ {} }}", members.join(", "))
        }
        other => other.to_string(),
    }
}

/// A key as TOML: bare if it may be.
fn key_in_toml(key: &str) -> String {
    let is_bare = !key.is_empty() && key.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte));
    if is_bare { key.to_owned() } else { toml::Value::String(key.to_owned()).to_string() }
}

/// The JSON Schema (draft 7) of the configuration, which editors of TOML understand.
pub fn schema() -> Value {
    let generator = SchemaSettings::draft07().into_generator();
    let mut root = generator.into_root_schema_for::<ConfigFile>().to_value();
    root["title"] = json!("idle-atlas.toml");
    amend(&mut root);
    if let Some(source) = root.pointer_mut("/definitions/SourceTable") {
        source["allOf"] = KEYS.iter().map(|(kind, keys)| by_kind(kind, keys)).collect();
    }
    root
}

/// What a kind of source takes.
fn by_kind(kind: &str, keys: &[&str]) -> Value {
    let takes: Vec<&str> = ["from"].iter().chain(&ALL_TAKE).chain(keys).copied().collect();
    json!({
        "if": { "properties": { "from": { "const": kind } } },
        "then": { "propertyNames": { "enum": takes } }
    })
}

/// Reads what the comments of keys say, and takes out what TOML does not have: null.
fn amend(schema: &mut Value) {
    let Value::Object(object) = schema else { return };
    without_null(object);
    if let Some(text) = object.get("description").and_then(Value::as_str).map(str::to_owned) {
        explain(object, &text);
    }
    for (name, value) in object {
        match (name.as_str(), value) {
            // Their members are schemas, by names that may be anything.
            ("properties" | "definitions", Value::Object(members)) => members.values_mut().for_each(amend),
            ("anyOf" | "allOf" | "oneOf", Value::Array(variants)) => variants.iter_mut().for_each(amend),
            ("items" | "additionalProperties", value) => amend(value),
            _ => {}
        }
    }
}

fn without_null(object: &mut Map<String, Value>) {
    if let Some(Value::Array(types)) = object.get_mut("type") {
        types.retain(|one| one != "null");
        if let [one] = &types[..] {
            object["type"] = one.clone();
        }
    }
    if let Some(Value::Array(variants)) = object.get_mut("anyOf") {
        variants.retain(|variant| variant.get("type").is_none_or(|kind| kind != "null"));
        if let [Value::Object(one)] = &variants[..] {
            let one = one.clone();
            object.shift_remove("anyOf");
            // What is said of the key counts more than what is said of its type.
            one.into_iter().for_each(|(name, value)| {
                object.entry(name).or_insert(value);
            });
        }
    }
    // Serde's own default of an absent key is no setting.
    object.shift_remove("default");
    object.shift_remove("format");
}

/// Takes a comment apart: the meaning, and then what each line below says.
fn explain(object: &mut Map<String, Value>, text: &str) {
    let (meaning, facts) = text.split_once("\n\n").unwrap_or((text, ""));
    object.insert("description".to_owned(), json!(meaning.split_whitespace().collect::<Vec<_>>().join(" ")));
    for line in facts.lines() {
        let line = match line.strip_prefix("Secret.") {
            Some(rest) => {
                object.insert("writeOnly".to_owned(), json!(true));
                rest.trim_start()
            }
            None => line,
        };
        if let Some(code) = line.strip_prefix("Default: ") {
            object.insert("default".to_owned(), value_of(&format!("value = {}", code.trim_matches('`'))));
        } else if let Some(code) = line.strip_prefix("Example: ") {
            let code = code.trim_matches('`');
            object.insert("examples".to_owned(), json!([value_of(code)]));
            object.insert("x-toml".to_owned(), json!(code));
        } else if let Some(words) = line.strip_prefix("Words: ") {
            let words: Vec<&str> = words.split(", ").collect();
            match object.get_mut("items") {
                Some(items) => items["enum"] = json!(words),
                None => {
                    object.insert("enum".to_owned(), json!(words));
                }
            }
        }
    }
}

/// The value in a line of TOML.
fn value_of(line: &str) -> Value {
    let table: Map<String, Value> = toml::from_str(line).unwrap_or_default();
    table.into_iter().next().map_or(Value::Null, |(_, value)| value)
}

/// All tables with their keys, in the order of the reference.
pub fn tables() -> Vec<TableFacts> {
    let schema = schema();
    let Some(Value::Object(properties)) = schema.get("properties") else { return Vec::new() };
    properties.iter().filter_map(|(name, property)| table(&schema, name, property)).collect()
}

fn table(schema: &Value, name: &str, property: &Value) -> Option<TableFacts> {
    let is_list = property["type"] == "array";
    let of = if is_list { &property["items"] } else { property };
    // What describes a reference stands beside it, in `allOf`.
    let reference = of.get("$ref").or_else(|| of.pointer("/allOf/0/$ref"));
    let definition = schema.pointer(reference?.as_str()?.trim_start_matches('#'))?;
    let needed = definition["required"].as_array().cloned().unwrap_or_default();
    let keys = definition["properties"].as_object()?.iter().map(|(key, facts)| KeyFacts {
        name: key.clone(),
        meaning: facts["description"].as_str().unwrap_or_default().to_owned(),
        takes: takes(facts),
        words: words(facts),
        default: facts.get("default").cloned(),
        example: facts["x-toml"].as_str().map(str::to_owned),
        is_needed: needed.contains(&json!(key)),
        is_secret: facts["writeOnly"] == true,
        kinds: match name {
            "source" => kinds(key),
            "engine" => protocols(facts["description"].as_str().unwrap_or_default()),
            _ => Vec::new(),
        },
    });
    let meaning = definition["description"].as_str().unwrap_or_default().to_owned();
    Some(TableFacts { name: name.to_owned(), is_list, meaning, keys: keys.collect() })
}

fn words(facts: &Value) -> Vec<String> {
    let words = facts.get("enum").or_else(|| facts.pointer("/items/enum")).and_then(Value::as_array);
    words.into_iter().flatten().filter_map(|word| Some(word.as_str()?.to_owned())).collect()
}

/// The kinds of source that take a key, if not all do.
fn kinds(key: &str) -> Vec<&'static str> {
    KEYS.iter().filter(|(_, keys)| keys.contains(&key)).map(|(kind, _)| *kind).collect()
}

/// The protocol before a colon at the beginning of the meaning of an engine's key, if it belongs to one.
fn protocols(meaning: &str) -> Vec<&'static str> {
    let named = meaning.split_once(": ").map_or("", |(before, _)| before);
    PROTOCOLS.iter().map(|protocol| protocol.word).filter(|word| *word == named).collect()
}

/// What a key takes, in a word or two.
fn takes(facts: &Value) -> String {
    if let Some(variants) = facts["anyOf"].as_array() {
        let all: Vec<String> = variants.iter().map(takes).collect();
        return all.join(" or ");
    }
    let is_list = facts["type"] == "array";
    let takes = match facts["type"].as_str() {
        _ if !words(facts).is_empty() => {
            if is_list {
                "list of words"
            } else {
                "word"
            }
        }
        Some("string") => "text",
        Some("integer") => "whole number",
        Some("number") => "number",
        Some("boolean") => "true or false",
        Some("array") => "list",
        _ => "table",
    };
    takes.to_owned()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Any value that TOML has.
    fn value() -> impl Strategy<Value = Value> {
        let plain = prop_oneof![
            any::<bool>().prop_map(Value::from),
            any::<i64>().prop_map(Value::from),
            (-1000i32..1000).prop_map(|number| Value::from(f64::from(number) / 8.0)),
            any::<String>().prop_map(Value::from),
            "[a-z\"'\\\\ \n\t$]{0,9}".prop_map(Value::from),
        ];
        plain.prop_recursive(3, 24, 5, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..5).prop_map(Value::from),
                prop::collection::btree_map("[a-zA-Z_ .-]{0,6}", inner, 0..5)
                    .prop_map(|members| Value::Object(members.into_iter().collect())),
            ]
        })
    }

    proptest! {
        /// What is shown can be typed: any value is read back as it was.
        #[test]
        fn values_are_written_as_toml(value in value()) {
            let line = format!("value = {}", in_toml(&value));
            prop_assert!(!line.contains('\n') || line.contains("\"\"\"") || line.contains("'''"), "{}", line);
            prop_assert_eq!(value_of(&line), value, "{}", line);
        }
    }

    /// Every key says what it means, and how it is written.
    #[test]
    fn every_key_is_explained() {
        let mut keys = 0;
        for table in tables() {
            assert!(table.meaning.ends_with('.'), "[{}] has no meaning", table.name);
            for key in &table.keys {
                let place = format!("[{}] {}", table.name, key.name);
                assert!(key.meaning.ends_with('.'), "{place}: {}", key.meaning);
                assert!(key.default.is_some() || key.example.is_some(), "{place} has neither default nor example");
                let default = key.default.iter().all(|default| !default.is_null());
                assert!(default, "{place}: the default is not TOML");
                if let Some(example) = &key.example {
                    assert!(example.starts_with(&format!("{} = ", key.name)), "{place}: {example}");
                    assert!(!value_of(example).is_null(), "{place}: {example} is not TOML");
                }
                keys += 1;
            }
        }
        assert!(keys > 150, "{keys}");
    }

    #[test]
    fn the_schema_has_no_null() {
        assert!(!schema().to_string().contains("\"null\""));
    }
}
