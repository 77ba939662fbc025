//! JSON; comments and trailing commas stay where a file has them. The parser is `jsonc-parser`; the edits are made on
//! the text, at the places it reports.

use jsonc_parser::{
    CollectOptions, ParseOptions,
    ast::{self, ObjectPropName},
    common::Ranged,
    parse_to_ast,
};

use super::{
    ParseDocumentError, Value, commas,
    node::{Body, Node, Syntax, Why},
};

/// The format.
pub(super) struct Json;

fn options() -> ParseOptions {
    ParseOptions {
        allow_comments: true,
        allow_trailing_commas: true,
        allow_loose_object_property_names: false,
        allow_missing_commas: false,
        allow_single_quoted_strings: false,
        allow_hexadecimal_numbers: false,
        allow_unary_plus_numbers: false,
        allow_bare_decimal_point_numbers: false,
        allow_non_finite_numbers: false,
        allow_extended_string_escapes: false,
    }
}

fn lower_first(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_lowercase().chain(chars).collect())
}

fn range(of: &impl Ranged) -> std::ops::Range<usize> {
    let range = of.range();
    range.start..range.end
}

fn node(key: &str, value: &ast::Value<'_>) -> Node {
    let span = range(value);
    match value {
        ast::Value::Object(object) => {
            let children = object.properties.iter().map(|prop| {
                let key = match &prop.name {
                    ObjectPropName::String(lit) => lit.value.as_ref(),
                    ObjectPropName::Word(lit) => lit.value,
                };
                node(key, &prop.value).within(range(prop))
            });
            Node::holder(key, span, Body::Group(children.collect()))
        }
        ast::Value::Array(array) => {
            let items = array.elements.iter().map(|item| node("", item));
            Node::holder(key, span, Body::List(items.collect()))
        }
        ast::Value::StringLit(lit) => Node::leaf(key, span, Value::Text(lit.value.to_string())),
        ast::Value::BooleanLit(lit) => Node::leaf(key, span, Value::Flag(lit.value)),
        ast::Value::NumberLit(lit) => {
            let number = serde_json::from_str(lit.value).unwrap_or(serde_json::Value::Null);
            Node::leaf(key, span, Value::from(number))
        }
        ast::Value::NullKeyword(_) => Node::leaf(key, span, Value::Compound(serde_json::Value::Null)),
    }
}

/// Returns a value as JSON text.
pub(super) fn write(value: &Value) -> Result<String, Why> {
    match value {
        Value::Real(number) if !number.is_finite() => Err("there is no such number there"),
        value => Ok(spaced(&value.to_json())),
    }
}

fn spaced(json: &serde_json::Value) -> String {
    match json {
        serde_json::Value::Object(entries) => {
            let quoted = |key: &str| serde_json::Value::from(key).to_string();
            let all: Vec<String> =
                entries.iter().map(|(key, value)| format!("{}: {}", quoted(key), spaced(value))).collect();
            format!("{{{}}}", all.join(", "))
        }
        serde_json::Value::Array(items) => {
            format!("[{}]", items.iter().map(spaced).collect::<Vec<_>>().join(", "))
        }
        single => single.to_string(),
    }
}

impl Syntax for Json {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        if text.trim().is_empty() {
            return Err(ParseDocumentError::at(text, 0, "the file is empty, and JSON was expected"));
        }
        match parse_to_ast(text, &CollectOptions::default(), &options()) {
            Ok(result) => match &result.value {
                Some(value) => Ok(node("", value)),
                None => Err(ParseDocumentError::at(text, text.len(), "a JSON value was expected")),
            },
            Err(error) => {
                let said = error.kind().to_string();
                Err(ParseDocumentError::at(text, error.range().start, lower_first(&said)))
            }
        }
    }

    fn leaf(&self, _: &str, _: &Node, value: &Value) -> Result<String, Why> {
        write(value)
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        let value = write(value)?;
        let is_list = matches!(into.body, Body::List(_));
        let new = if is_list { value } else { format!("{}: {value}", serde_json::Value::from(key)) };
        commas::add(text, into, at, &new);
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        commas::cut(text, from, child);
    }
}
