//! What the load order rests on, in words.

use yalotheca_core::order::{Bond, Relation};

/// Returns a relation as half a sentence: `tidebell needs harbour-core`.
pub fn in_words(relation: &Relation) -> String {
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
pub fn as_reason(relation: &Relation) -> String {
    let Relation { first, later, by, bond } = relation;
    match bond {
        Bond::Needs => format!("after {first}, which it needs"),
        Bond::Welcomes => format!("after {first}, which it welcomes"),
        Bond::Asked => format!("after {first}, as you asked"),
        Bond::Wishes if by == later => format!("after {first}, as it asks"),
        Bond::Wishes => format!("after {first}, which asks to be before it"),
    }
}
