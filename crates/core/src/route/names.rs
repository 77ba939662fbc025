//! Names of an archive's members: which may be used at all, and which would meet on some disks.

use std::collections::BTreeMap;

use unicode_normalization::UnicodeNormalization;

/// Why a member's name is not used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum UnsafeName {
    /// It begins at the root of a disk.
    #[error("it names a place outside the archive")]
    Absolute,
    /// It climbs out of the archive.
    #[error("it climbs out of the archive with \"..\"")]
    Climbs,
    /// It has characters that no file's name should have.
    #[error("its name holds control characters")]
    Control,
    /// There is nothing in it.
    #[error("its name is empty")]
    Empty,
}

/// Returns a member's name as a path with `/` between names and without empty ones. Some programs write `\` between
/// them.
///
/// # Errors
/// Where it leads out of the archive, or is no name.
pub fn member_path(name: &str) -> Result<String, UnsafeName> {
    let name = name.replace('\\', "/");
    if name.chars().any(char::is_control) {
        return Err(UnsafeName::Control);
    }
    let mut letters = name.chars();
    let has_drive = letters.next().is_some_and(|c| c.is_ascii_alphabetic()) && letters.next() == Some(':');
    if name.starts_with('/') || has_drive {
        return Err(UnsafeName::Absolute);
    }
    let pieces: Vec<&str> = name.split('/').filter(|piece| !matches!(*piece, "" | ".")).collect();
    if pieces.contains(&"..") {
        return Err(UnsafeName::Climbs);
    }
    if pieces.is_empty() { Err(UnsafeName::Empty) } else { Ok(pieces.join("/")) }
}

/// Returns where a link inside an archive leads: the path of a member, if it stays inside.
pub fn link_target(link: &str, target: &str) -> Option<String> {
    if target.starts_with('/') || target.contains('\\') {
        return None;
    }
    let mut path: Vec<&str> = link.split('/').collect();
    path.pop();
    for piece in target.split('/') {
        match piece {
            "" | "." => {}
            ".." => drop(path.pop()?),
            piece => path.push(piece),
        }
    }
    Some(path.join("/"))
}

/// Returns groups of names that are one name on disks that do not tell upper from lower case, or one way to write a
/// letter from another.
pub fn meeting_names<'a>(names: impl IntoIterator<Item = &'a str>) -> Vec<Vec<&'a str>> {
    let mut groups: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for name in names {
        let same = if name.is_ascii() {
            name.to_ascii_lowercase()
        } else {
            name.nfc().collect::<String>().to_lowercase()
        };
        groups.entry(same).or_default().push(name);
    }
    groups.into_values().filter(|group| group.len() > 1).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_stay_inside() {
        assert_eq!(member_path("a//./b/c.txt").as_deref(), Ok("a/b/c.txt"));
        assert_eq!(member_path("a\\b.txt").as_deref(), Ok("a/b.txt"));
        for (name, why) in [
            ("/etc/passwd", UnsafeName::Absolute),
            ("\\\\host\\share", UnsafeName::Absolute),
            ("C:\\x", UnsafeName::Absolute),
            ("a/../../b", UnsafeName::Climbs),
            ("..\\b", UnsafeName::Climbs),
            ("a\nb", UnsafeName::Control),
            ("a\0b", UnsafeName::Control),
            ("./", UnsafeName::Empty),
        ] {
            assert_eq!(member_path(name), Err(why), "{name:?}");
        }
        assert_eq!(member_path("..harmless/x...").as_deref(), Ok("..harmless/x..."));
    }

    #[test]
    fn links_stay_inside_or_lead_nowhere() {
        assert_eq!(link_target("a/b/link", "../c.txt").as_deref(), Some("a/c.txt"));
        assert_eq!(link_target("link", "./x/y").as_deref(), Some("x/y"));
        assert_eq!(link_target("a/link", "../../x"), None);
        assert_eq!(link_target("a/link", "/x"), None);
    }

    #[test]
    fn names_that_meet() {
        let names = ["Pier.tile", "pier.tile", "quai\u{e9}", "quaie\u{301}", "other"];
        assert_eq!(
            meeting_names(names),
            [vec!["Pier.tile", "pier.tile"], vec!["quai\u{e9}", "quaie\u{301}"]]
        );
    }
}
