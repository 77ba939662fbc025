//! Rules from a JSON Schema that a content brings along: `type`, `minimum`, `maximum`, `enum`, `default` and
//! `description` of the properties, at any depth. What else a schema says is not looked at.
//!
//! Source: JSON Schema, draft 2020-12, validation vocabulary.

use serde_json::Value as Json;

use super::{SettingRule, SettingType};
use crate::document::{Pointer, Value};

/// Reads a schema.
///
/// # Errors
/// Where it is not JSON.
pub fn rules_of_schema(text: &str) -> Result<Vec<(Pointer, SettingRule)>, String> {
    let schema: Json = serde_json::from_str(text).map_err(|error| error.to_string())?;
    let mut rules = Vec::new();
    below(&schema, &Pointer::root(), &mut rules);
    Ok(rules)
}

fn below(schema: &Json, at: &Pointer, rules: &mut Vec<(Pointer, SettingRule)>) {
    let named = schema.get("properties").and_then(Json::as_object).into_iter().flatten();
    for (name, inner) in named {
        property(inner, &at.join(name), rules);
    }
    if let Some(inner) = schema.get("additionalProperties").filter(|inner| inner.is_object()) {
        property(inner, &at.join("*"), rules);
    }
}

fn property(schema: &Json, at: &Pointer, rules: &mut Vec<(Pointer, SettingRule)>) {
    let number = |name: &str| schema.get(name).and_then(Json::as_f64);
    let choices: Vec<String> = schema
        .get("enum")
        .and_then(Json::as_array)
        .map(|words| words.iter().map(|word| Value::from(word.clone()).plain()).collect())
        .unwrap_or_default();
    let sort = match schema.get("type").and_then(Json::as_str) {
        _ if !choices.is_empty() => SettingType::Choice,
        Some("integer") => SettingType::Whole,
        Some("number") => SettingType::Number,
        Some("boolean") => SettingType::Switch,
        Some("array") => SettingType::List,
        Some("string") => SettingType::Text,
        _ => return below(schema, at, rules),
    };
    let text = |name: &str| schema.get(name).and_then(Json::as_str).unwrap_or_default().to_owned();
    rules.push((
        at.clone(),
        SettingRule {
            default: schema.get("default").cloned().map(Value::from),
            least: number("minimum"),
            most: number("maximum"),
            choices,
            help: text("description"),
            ..SettingRule::of(sort)
        },
    ));
}
