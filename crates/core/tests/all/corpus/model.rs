//! What a file says, by readers that share no code with ours: `serde_json`, libyaml (by `serde_yaml_ng`), `basic-toml` or
//! `toml`, `quick-xml`. Formats of lines have none; there the other lines must stay as they are.

use quick_xml::{Reader, events::Event};
use serde::Deserialize;
use serde_json::{Map, Value as Json};
use yalotheca_core::document::Format;

/// What is said.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Model {
    /// Values in each other.
    Tree(Json),
    /// An element with what is around it.
    Element(Element),
    /// The lines themselves.
    Lines(Vec<String>),
}

/// One element of an XML file.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct Element {
    pub(crate) name: String,
    pub(crate) attributes: Vec<(String, String)>,
    pub(crate) text: String,
    pub(crate) children: Vec<Self>,
    /// Comments and instructions.
    pub(crate) notes: Vec<String>,
}

/// Reads a text; nothing where the other reader does not.
pub(crate) fn read(format: Format, text: &str) -> Option<Model> {
    Some(match format {
        Format::Json => Model::Tree(serde_json::from_str(text).ok()?),
        Format::Yaml => Model::Tree(yaml(text)?),
        Format::Toml => Model::Tree(by_basic_toml(text).or_else(|| by_toml(text))?),
        Format::Xml => Model::Element(xml(text)?),
        _ if !is_of_lines(format, text) => return None,
        _ => Model::Lines(text.lines().map(str::to_owned).collect()),
    })
}

/// Reads a text before and after an edit by one and the same reader: they differ in what they make of line endings and dates.
pub(crate) fn read_both(format: Format, before: &str, after: &str) -> Option<(Model, Model)> {
    if format == Format::Toml {
        let readers: [fn(&str) -> Option<Json>; 2] = [by_basic_toml, by_toml];
        return readers.iter().find_map(|read| Some((Model::Tree(read(before)?), Model::Tree(read(after)?))));
    }
    Some((read(format, before)?, read(format, after)?))
}

fn by_basic_toml(text: &str) -> Option<Json> {
    basic_toml::from_str(text).ok()
}

fn by_toml(text: &str) -> Option<Json> {
    Some(toml_json(toml::from_str(text).ok()?))
}

/// The names of such files tell little: whether each line is one that the format has.
fn is_of_lines(format: Format, text: &str) -> bool {
    let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    match format {
        Format::Properties => lines.all(|line| line.contains('=') || line.starts_with('!')),
        Format::Keywords => lines.all(|line| {
            let quoted = line
                .split_once('"')
                .is_some_and(|(_, rest)| rest.ends_with('"') && rest.matches('"').count() == 1);
            quoted || !line.contains('"')
        }),
        _ => true,
    }
}

fn toml_json(value: toml::Value) -> Json {
    match value {
        toml::Value::String(text) => text.into(),
        toml::Value::Integer(number) => number.into(),
        toml::Value::Float(number) => number.into(),
        toml::Value::Boolean(flag) => flag.into(),
        toml::Value::Datetime(date) => date.to_string().into(),
        toml::Value::Array(items) => items.into_iter().map(toml_json).collect(),
        toml::Value::Table(entries) => {
            entries.into_iter().map(|(key, value)| (key, toml_json(value))).collect()
        }
    }
}

fn yaml(text: &str) -> Option<Json> {
    let mut documents = serde_yaml_ng::Deserializer::from_str(text);
    let first = serde_yaml_ng::Value::deserialize(documents.next()?).ok()?;
    yaml_json(first)
}

fn yaml_json(value: serde_yaml_ng::Value) -> Option<Json> {
    use serde_yaml_ng::Value as Yaml;
    Some(match value {
        Yaml::Null => Json::Null,
        Yaml::Bool(flag) => flag.into(),
        Yaml::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(whole), _) => whole.into(),
            (_, Some(real)) => real.into(),
            _ => return None,
        },
        Yaml::String(text) => text.into(),
        Yaml::Sequence(items) => Json::Array(items.into_iter().map(yaml_json).collect::<Option<_>>()?),
        Yaml::Mapping(entries) => {
            let mut map = Map::new();
            for (key, value) in entries {
                let key = match yaml_json(key)? {
                    Json::String(text) => text,
                    Json::Null => return None,
                    other => other.to_string(),
                };
                map.insert(key, yaml_json(value)?);
            }
            Json::Object(map)
        }
        Yaml::Tagged(tagged) => yaml_json(tagged.value)?,
    })
}

fn xml(text: &str) -> Option<Element> {
    let mut reader = Reader::from_str(text);
    // A double dash in a comment is against the specification.
    reader.config_mut().check_comments = true;
    let mut open = vec![Element::default()];
    loop {
        match reader.read_event().ok()? {
            Event::Start(tag) => open.push(element(&tag)?),
            Event::Empty(tag) => {
                let element = element(&tag)?;
                open.last_mut()?.children.push(element);
            }
            Event::End(_) => {
                let done = open.pop()?;
                open.last_mut()?.children.push(done);
            }
            Event::Text(said) => open.last_mut()?.text += &said.decode().ok()?,
            Event::CData(said) => open.last_mut()?.text += &said.decode().ok()?,
            Event::GeneralRef(name) => {
                let name = name.decode().ok()?;
                let whole = format!("&{name};");
                open.last_mut()?.text += &quick_xml::escape::unescape(&whole).ok()?;
            }
            Event::Comment(said) => open.last_mut()?.notes.push(said.decode().ok()?.into_owned()),
            Event::PI(said) => open.last_mut()?.notes.push(String::from_utf8_lossy(&said).into_owned()),
            Event::DocType(_) | Event::Decl(_) => {}
            Event::Eof => break,
        }
    }
    let mut root = open.pop()?;
    tidy(&mut root);
    (open.is_empty() && root.children.len() == 1).then_some(root)
}

/// White space between elements says nothing.
fn tidy(element: &mut Element) {
    if element.text.trim().is_empty() {
        element.text.clear();
    }
    element.text = element.text.replace("\r\n", "\n");
    element.children.iter_mut().for_each(tidy);
}

fn element(tag: &quick_xml::events::BytesStart<'_>) -> Option<Element> {
    let attributes = tag.attributes().map(|attribute| {
        let attribute = attribute.ok()?;
        let name = String::from_utf8(attribute.key.as_ref().to_vec()).ok()?;
        Some((name, attribute.unescape_value().ok()?.into_owned()))
    });
    Some(Element {
        name: String::from_utf8(tag.name().as_ref().to_vec()).ok()?,
        attributes: attributes.collect::<Option<_>>()?,
        ..Element::default()
    })
}
