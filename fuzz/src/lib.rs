//! What every target does with a text that can be read.

use yalotheca_core::document::{Document, Format, Pointer, Value};

/// Reads bytes in a format and, where that can be done, edits every place.
pub fn try_all(format: Format, bytes: &[u8]) {
    let Ok(document) = Document::read(format, bytes.to_vec()) else { return };
    let places = document.leaves();
    for value in [Value::Whole(1), Value::Text("x # y: 'z'".into())] {
        for at in places.iter().map(|(at, _)| at.clone()).chain([Pointer::root().join("new").join("deep")]) {
            let mut changed = document.clone();
            if let Ok(before) = changed.set(&at, &value) {
                changed.put_back(&at, &before).ok();
                assert_eq!(changed.text(), document.text(), "{at} taken back");
            }
            let mut changed = document.clone();
            changed.insert(&at, 0, &value).ok();
            changed.unset(&at).ok();
        }
    }
}
