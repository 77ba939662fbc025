//! Words that reports and messages have in common.

pub mod relations;
mod server_name;

pub use server_name::ServerName;

use yalotheca_core::{id::ContentId, link::LinkTarget, version::ReleaseVersion};

/// Returns a size as a person reads it: `812 B`, `26 KB`, `3.4 MB`.
pub fn size(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} B"),
        1_000..1_000_000 => format!("{} KB", bytes.div_ceil(1_000)),
        1_000_000..1_000_000_000 => format!("{}.{} MB", bytes / 1_000_000, bytes / 100_000 % 10),
        _ => format!("{}.{} GB", bytes / 1_000_000_000, bytes / 100_000_000 % 10),
    }
}

/// Returns `1 file`, `2 files`.
pub fn count(number: usize, word: &str) -> String {
    if number == 1 { format!("1 {word}") } else { format!("{number} {word}s") }
}

/// Returns names as a sentence has them: `a`, `a and b`, `a, b and c`.
pub fn listed<T: AsRef<str>>(names: &[T]) -> String {
    let names: Vec<&str> = names.iter().map(AsRef::as_ref).collect();
    match names.as_slice() {
        [] => String::new(),
        [only] => (*only).to_owned(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}

/// The id and version of what the tables show.
pub fn shown(id: &ContentId, version: &ReleaseVersion) -> String {
    if version.is_unversioned() { id.to_string() } else { format!("{id} {version}") }
}

/// Says what is wrong with the target of a link, unless it is a file.
pub fn wrong_target(target: &LinkTarget) -> Option<String> {
    Some(match target {
        LinkTarget::File => return None,
        LinkTarget::Page(title) if title.is_empty() => "it is a web page, not the file".into(),
        LinkTarget::Page(title) => format!("it is a web page (“{title}”), not the file"),
        LinkTarget::Login => "the host wants a login".into(),
        LinkTarget::Expired => "the link has expired".into(),
        LinkTarget::Missing => "there is nothing at that address".into(),
        LinkTarget::Failing(status) | LinkTarget::Refused(status) => format!("the host answers {status}"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_counts() {
        assert_eq!([size(812), size(25_300), size(3_450_000)], ["812 B", "26 KB", "3.4 MB"]);
        assert_eq!(
            [listed(&["a"]), listed(&["a", "b"]), listed(&["a", "b", "c"])],
            ["a", "a and b", "a, b and c"]
        );
        assert_eq!([count(1, "file"), count(2, "file")], ["1 file", "2 files"]);
    }
}
