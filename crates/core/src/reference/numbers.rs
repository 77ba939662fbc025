//! Places that hold numbers: coordinates, a size, a colour.

use std::collections::BTreeMap;

use super::{Break, Files, Spot};
use crate::{
    document::{Document, Pointer},
    game::{Numbers, Reference},
};

/// Returns the places without the expected numbers.
pub(super) fn misshapen(reference: &Reference, numbers: &Numbers, files: &mut dyn Files) -> Vec<Break> {
    let Reference { files: glob, pattern, format, each, called, .. } = reference;
    let mut found = Vec::new();
    for file in files.named(pattern, glob) {
        let Some(text) = files.text(&file) else { continue };
        // `check` reports an unreadable file separately.
        let Ok(document) = Document::parse(*format, text.text()) else { continue };
        let mut groups: BTreeMap<Pointer, Vec<(String, String)>> = BTreeMap::new();
        for (place, value) in document.matching(&each.join("*")) {
            let Some((last, above)) = place.tokens().split_last() else { continue };
            let above = above.iter().fold(Pointer::root(), |above, token| above.join(token));
            groups.entry(above).or_default().push((last.clone(), value.plain()));
        }
        let mut tell = |line: usize, value: String| {
            let at = Spot { file: file.clone(), line };
            let wanted = numbers.in_words();
            found.push(Break {
                called: called.clone(),
                value,
                at,
                also: None,
                wanted,
                near: None,
                misshapen: true,
            });
        };
        if groups.is_empty() {
            tell(1, String::new());
        }
        for (place, values) in groups.into_iter().filter(|(_, values)| !numbers.fit(values)) {
            let line = document.line_of(&place).unwrap_or(1);
            tell(line, values.into_iter().map(|(_, value)| value).collect::<Vec<_>>().join(", "));
        }
    }
    found
}

impl Numbers {
    fn fit(&self, values: &[(String, String)]) -> bool {
        let is_number = |text: &str| text.parse::<f64>().is_ok_and(f64::is_finite);
        match self {
            Self::Many(count) => values.len() == *count && values.iter().all(|(_, value)| is_number(value)),
            Self::Named(names) => {
                names.iter().all(|name| values.iter().any(|(other, value)| other == name && is_number(value)))
            }
        }
    }

    fn in_words(&self) -> String {
        match self {
            Self::Many(1) => "one number".into(),
            Self::Many(count) => format!("{count} numbers"),
            Self::Named(names) => {
                let names: Vec<&str> = names.iter().map(|name| name.trim_start_matches('@')).collect();
                format!("a number for each of {}", names.join(", "))
            }
        }
    }
}
