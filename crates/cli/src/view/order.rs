//! What the load order rests on, as text.

use yalotheca_app::words::relations::in_words;
use yalotheca_core::order::{Bond, GaveWay, Relation};

use super::{Page, Role};

/// Tells which relations gave way, to what, and how to have them anyway.
pub(crate) fn gave_way(page: &mut Page, notes: &[GaveWay]) {
    for note in notes {
        let against: Vec<String> = note.against.iter().map(in_words).collect();
        let Relation { first, later, .. } = &note.relation;
        let text = if let [other] = note.against.as_slice()
            && [note.relation.bond, other.bond] == [Bond::Wishes; 2]
            && (&note.relation.by, &other.by) == (later, first)
        {
            format!("{later} and {first} each ask to be loaded after the other; {later} goes first.")
        } else {
            format!("{}; that cannot be kept, because {}.", in_words(&note.relation), against.join(", and "))
        };
        page.gap();
        page.label(Role::Dim, "Order", &text);
        if note.relation.bond != Bond::Asked && note.to_override().is_some() {
            page.item(Role::Plain, &format!("To have it anyway: yalotheca order {later} --after {first}"));
        }
    }
}
