//! How explanations name contents and releases, and list them.

use crate::{catalogue::Content, sets::Set};

/// The most contents that one sentence lists.
pub(super) const MOST_LISTED: usize = 6;

/// Returns `a, b and c`, and of very many the first few.
pub(super) fn listed<T: AsRef<str>>(names: &[T]) -> String {
    joined(names, "and")
}

pub(super) fn listed_or(names: &[String]) -> String {
    joined(names, "or")
}

fn joined<T: AsRef<str>>(names: &[T], word: &str) -> String {
    let texts: Vec<&str> = names.iter().map(AsRef::as_ref).collect();
    match texts.as_slice() {
        [] => String::new(),
        [only] => (*only).to_owned(),
        [rest @ .., last] if texts.len() <= MOST_LISTED => format!("{} {word} {last}", rest.join(", ")),
        _ => format!("{} {word} {} more", texts[..MOST_LISTED - 1].join(", "), texts.len() + 1 - MOST_LISTED),
    }
}

/// Names some of a content's releases, and says whether they are several: `tidebell 1.4`, `tidebell 1.2 to 1.4`,
/// `every known tidebell`.
pub(super) fn name_releases(content: &Content, releases: &Set) -> (String, bool) {
    // Newest first, as the bits are.
    let all = &content.releases;
    let bits: Vec<usize> = releases.iter().filter(|bit| *bit < all.len()).collect();
    let id = &content.id;
    let version = |bit: usize| &all[bit].version;
    match bits.as_slice() {
        [] => (id.to_string(), false),
        [only] if version(*only).is_unversioned() => (id.to_string(), false),
        [only] => (format!("{id} {}", version(*only)), false),
        [newest, .., oldest] => {
            let in_a_row = oldest - newest + 1 == bits.len();
            if bits.len() == all.len() {
                (format!("every known {id}"), false)
            } else if in_a_row && *newest == 0 {
                (format!("{id} from {} on", version(*oldest)), true)
            } else if in_a_row {
                (format!("{id} {} to {}", version(*oldest), version(*newest)), true)
            } else if bits.len() <= 4 {
                let texts: Vec<&str> = bits.iter().rev().map(|bit| version(*bit).as_str()).collect();
                (format!("{id} {}", texts.join(", ")), true)
            } else {
                let (from, to) = (version(*oldest), version(*newest));
                (format!("{} releases of {id} between {from} and {to}", bits.len()), true)
            }
        }
    }
}
