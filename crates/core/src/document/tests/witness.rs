//! Readers that share no code with ours, and what they must see after an edit.

#[path = "../../../tests/all/corpus/edits.rs"]
pub(crate) mod edits;
#[path = "../../../tests/all/corpus/model.rs"]
pub(crate) mod model;
