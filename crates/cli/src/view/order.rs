//! What the load order rests on, as text.

use yalotheca_core::order::{Bond, GaveWay, Relation};

use super::{Page, Role};

/// Returns a relation as half a sentence: `tidebell needs harbour-core`.
pub(crate) fn in_words(relation: &Relation) -> String {
    let Relation { first, later, by, bond } = relation;
    match bond {
        Bond::Needs => format!("{later} needs {first}"),
        Bond::Welcomes => format!("{later} welcomes {first}"),
        Bond::Asked if by == later => format!("you asked for {later} after {first}"),
        Bond::Asked => format!("you asked for {first} before {later}"),
        Bond::Wishes if by == later => format!("{later} asks to be loaded after {first}"),
        Bond::Wishes => format!("{first} asks to be loaded before {later}"),
    }
}

/// Returns why something stands after another, from its own side: `after harbour-core, which it needs`.
pub(crate) fn as_reason(relation: &Relation) -> String {
    let Relation { first, later, by, bond } = relation;
    match bond {
        Bond::Needs => format!("after {first}, which it needs"),
        Bond::Welcomes => format!("after {first}, which it welcomes"),
        Bond::Asked => format!("after {first}, as you asked"),
        Bond::Wishes if by == later => format!("after {first}, as it asks"),
        Bond::Wishes => format!("after {first}, which asks to be before it"),
    }
}

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
