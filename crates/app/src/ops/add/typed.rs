//! Interprets what the user typed, with the game's rules for numbers and pages.

use std::path::PathBuf;

use yalotheca_core::{
    game::{LinkRule, Scope},
    id::ContentId,
    version::VersionRange,
};
use yalotheca_host::survey::FoundContent;

use crate::Server;

/// The named groups that the game's rule matched in a link.
pub(super) type Facts = Vec<(String, String)>;

/// The text as typed: a link, a path or a name.
pub(super) enum Typed {
    Link(String, Facts),
    Path(PathBuf),
    Name(ContentId, VersionRange),
    /// The number of a content in a folder of downloads.
    Numbered(ContentId),
    /// An item that the server downloaded itself.
    Here(Box<FoundContent>),
}

/// Returns the game's rule for a number or a page, the content it identifies, and the values for its templates.
pub(super) fn rule_for<'s>(server: &'s Server, text: &str) -> Option<(&'s LinkRule, Facts, Scope)> {
    let matched = |rule: &'s LinkRule| rule.pattern.captures(text).map(|groups| (rule, groups));
    let (rule, groups) = server.game.links.iter().find_map(matched)?;
    let names = rule.pattern.capture_names().flatten();
    let facts: Facts =
        names.filter_map(|name| Some((name.to_owned(), groups.name(name)?.as_str().to_owned()))).collect();
    let mut scope = server.survey.scope.clone();
    scope.found.extend(facts.iter().cloned());
    Some((rule, facts, scope))
}
