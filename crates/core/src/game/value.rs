//! Values with templates in them: what a registration or a tweak writes.

use super::{RenderError, Scope, Template};
use crate::document::Value;

/// A value with templates in its texts.
#[derive(Debug, Clone, PartialEq)]
pub enum ValueTemplate {
    /// A text with places to fill. Where it is nothing but one parameter, it becomes a value of that sort.
    Text(Template),
    /// A value without any.
    Plain(Value),
    /// A list.
    List(Vec<Self>),
    /// A group, in the order in which it is written.
    Group(Vec<(String, Self)>),
}

impl ValueTemplate {
    /// Reads a value of a definition or a tweak. `allowed` is what its templates may name.
    ///
    /// # Errors
    /// Where a template names what is not known, or the value is none that can be written.
    pub(crate) fn new(value: &toml::Value, allowed: &[String]) -> Result<Self, String> {
        Ok(match value {
            toml::Value::String(text) => Self::Text(Template::new(text, allowed)?),
            toml::Value::Boolean(flag) => Self::Plain(Value::Flag(*flag)),
            toml::Value::Integer(number) => Self::Plain(Value::Whole(*number)),
            toml::Value::Float(number) => Self::Plain(Value::Real(*number)),
            toml::Value::Array(items) => {
                Self::List(items.iter().map(|item| Self::new(item, allowed)).collect::<Result<_, _>>()?)
            }
            toml::Value::Table(entries) => {
                let one = |(key, value): (&String, _)| Ok((key.clone(), Self::new(value, allowed)?));
                Self::Group(entries.iter().map(one).collect::<Result<_, String>>()?)
            }
            toml::Value::Datetime(_) => {
                return Err("a value is a text, a number, true or false, a list or a group".into());
            }
        })
    }

    /// Returns the value with its templates filled.
    ///
    /// # Errors
    /// Where the scope lacks a name that a template uses.
    pub fn render(&self, scope: &Scope) -> Result<Value, RenderError> {
        Ok(match self {
            Self::Plain(value) => value.clone(),
            Self::Text(template) => match parameter(template.as_str(), scope) {
                Some(value) => value,
                None => Value::Text(template.render(scope)?),
            },
            Self::List(items) => {
                let items = items.iter().map(|item| Ok(item.render(scope)?.to_json()));
                Value::Compound(items.collect::<Result<_, RenderError>>()?)
            }
            Self::Group(entries) => {
                let entries =
                    entries.iter().map(|(key, value)| Ok((key.clone(), value.render(scope)?.to_json())));
                Value::Compound(serde_json::Value::Object(entries.collect::<Result<_, RenderError>>()?))
            }
        })
    }
}

/// Returns the value of a template that is nothing but one parameter.
fn parameter(text: &str, scope: &Scope) -> Option<Value> {
    let name = text.strip_prefix("{{")?.strip_suffix("}}")?.trim().strip_prefix("param.")?;
    let (name, part) = name.split_once('.').map_or((name, None), |(name, part)| (name, Some(part)));
    let json = scope.param.get(name)?;
    Some(Value::from(match part {
        Some(part) => json.get(part)?.clone(),
        // Three coordinates are a list, unless one of them is named.
        None => match (json.get("x"), json.get("y"), json.get("z")) {
            (Some(x), Some(y), Some(z)) => serde_json::json!([x, y, z]),
            _ => json.clone(),
        },
    }))
}
