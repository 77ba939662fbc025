//! A plugin's `settings.yml`.

use std::collections::BTreeSet;

use saphyr_parser::{Event, Parser};

/// Returns the keys at the top of a YAML text, or the line (from 1) at which it is not YAML.
pub(super) fn top_keys(text: &str) -> Result<BTreeSet<String>, usize> {
    let mut keys = BTreeSet::new();
    let mut depth = 0_usize;
    let mut at_key = true;
    for event in Parser::new_from_str(text) {
        let (event, _) = event.map_err(|error| error.marker().line())?;
        match event {
            Event::MappingStart(..) | Event::SequenceStart(..) => depth += 1,
            Event::MappingEnd | Event::SequenceEnd => {
                depth -= 1;
                at_key = depth == 1 || at_key;
            }
            Event::Scalar(value, ..) if depth == 1 => {
                if at_key {
                    keys.insert(value.to_string());
                }
                at_key = !at_key;
            }
            _ => {}
        }
    }
    Ok(keys)
}
