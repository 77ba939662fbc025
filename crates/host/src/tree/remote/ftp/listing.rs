//! What servers list, in the forms that they have for it.

use std::time::UNIX_EPOCH;

use suppaftp::list::{File, ListParser};

use super::super::file_server::{RemoteEntry, RemoteKind, RemoteMetadata};

/// A time as FTP writes it: `20261129041000`.
pub(super) fn stamp(seconds: u64) -> String {
    // Days since 1970 to a date, after Howard Hinnant's algorithm for the proleptic Gregorian calendar.
    let (days, rest) = (seconds / 86_400 + 719_468, seconds % 86_400);
    let era = days / 146_097;
    let day = days % 146_097;
    let year = (day - day / 1_460 + day / 36_524 - day / 146_096) / 365;
    let day = day - (365 * year + year / 4 - year / 100);
    let month = (5 * day + 2) / 153;
    let date = day - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    let year = year + era * 400 + u64::from(month <= 2);
    format!("{year:04}{month:02}{date:02}{:02}{:02}{:02}", rest / 3_600, rest / 60 % 60, rest % 60)
}

fn of_file(file: &File, mode: Option<u32>) -> RemoteEntry {
    let kind = if file.is_symlink() {
        RemoteKind::Link
    } else if file.is_directory() {
        RemoteKind::Folder
    } else {
        RemoteKind::File
    };
    let modified = file.modified().duration_since(UNIX_EPOCH).ok().map(|since| since.as_secs());
    let target = file.symlink().map(|target| target.display().to_string());
    let size = file.size() as u64;
    let name = file.name().to_owned();
    // What could not be read as UTF-8 could not be asked for again.
    let name = if name.contains('\u{fffd}') { Err(name.into_bytes()) } else { Ok(name) };
    RemoteEntry { name, metadata: RemoteMetadata { kind, size, modified, mode, target } }
}

pub(super) fn of_mlsd(line: &str) -> Option<RemoteEntry> {
    let facts = line.split_once(' ')?.0.to_lowercase();
    let fact = |name: &str| facts.split(';').find_map(|fact| fact.strip_prefix(name)?.strip_prefix('='));
    let kind = fact("type").unwrap_or_default();
    if matches!(kind, "cdir" | "pdir") {
        return None;
    }
    let mode = fact("unix.mode").and_then(|mode| u32::from_str_radix(mode, 8).ok()).map(|mode| mode & 0o777);
    // The library knows files and folders only.
    let (written, name) = line.split_once(' ')?;
    let is_type = |fact: &str| fact.get(..5).is_some_and(|start| start.eq_ignore_ascii_case("type="));
    let is_known = matches!(kind, "file" | "dir");
    let facts: Vec<&str> =
        written.split(';').map(|fact| if is_type(fact) && !is_known { "type=file" } else { fact }).collect();
    let mut entry = of_file(&ListParser::parse_mlsd(&format!("{} {name}", facts.join(";"))).ok()?, mode);
    if let Some(link) = kind.strip_prefix("os.unix=slink") {
        entry.metadata.kind = RemoteKind::Link;
        // Its name is written as it is; the facts were made small letters.
        let at = line.to_lowercase().find("slink:").map(|at| at + 6);
        let written = at.and_then(|at| line.get(at..)?.split(';').next());
        entry.metadata.target = link.starts_with(':').then(|| written.unwrap_or_default().to_owned());
    } else if !matches!(kind, "file" | "dir") {
        entry.metadata.kind = RemoteKind::Other;
    }
    Some(entry)
}

pub(super) fn of_list(line: &str) -> Option<RemoteEntry> {
    let line = line.trim_end();
    if let Ok(file) = ListParser::parse_posix(line) {
        let mode = mode_of(line);
        let mut entry = of_file(&file, mode);
        if !matches!(line.as_bytes().first(), Some(b'-' | b'd' | b'l')) {
            entry.metadata.kind = RemoteKind::Other;
        }
        return Some(entry);
    }
    ListParser::parse_dos(line).ok().map(|file| of_file(&file, None))
}

/// Whether a line is in the form that shows links as such.
pub(super) fn is_posix(line: &str) -> bool {
    matches!(line.as_bytes().first(), Some(b'-' | b'd' | b'l'))
        && ListParser::parse_posix(line.trim_end()).is_ok()
}

/// Reads `-rw-r--r--`.
fn mode_of(line: &str) -> Option<u32> {
    let letters = line.get(1..10)?;
    Some(letters.bytes().fold(0, |mode, letter| mode << 1 | u32::from(!matches!(letter, b'-' | b'S' | b'T'))))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(line: &str, entry: Option<RemoteEntry>) -> (String, RemoteMetadata) {
        let entry = entry.unwrap_or_else(|| panic!("{line}"));
        (entry.name.unwrap_or_default(), entry.metadata)
    }

    #[test]
    fn listings_of_several_kinds_are_read() {
        for (line, name, kind, size, mode, target) in [
            (
                "-rw-r--r--    1 1000     1000           22 Nov 29 04:10 notes from last year.txt",
                "notes from last year.txt",
                RemoteKind::File,
                22,
                Some(0o644),
                None,
            ),
            (
                "drwxr-x---    2 ftp      ftp          4096 Jan 03  2025 mods",
                "mods",
                RemoteKind::Folder,
                4096,
                Some(0o750),
                None,
            ),
            (
                "lrwxrwxrwx    1 0        0              11 Nov 29 04:10 link -> ../out/dir",
                "link",
                RemoteKind::Link,
                11,
                Some(0o777),
                Some("../out/dir"),
            ),
            ("10-19-20  03:19PM       <DIR>          pub", "pub", RemoteKind::Folder, 0, None, None),
            (
                "04-08-14  03:09PM                  403 readme.txt",
                "readme.txt",
                RemoteKind::File,
                403,
                None,
                None,
            ),
        ] {
            let (own, metadata) = read(line, of_list(line));
            assert_eq!(
                (own.as_str(), metadata.kind, metadata.mode, metadata.target.as_deref()),
                (name, kind, mode, target),
                "{line}"
            );
            assert!(kind != RemoteKind::File || metadata.size == size, "{line}");
        }
        let line = "type=file;size=9;modify=20261129041000;unix.mode=0640; a b";
        let (own, metadata) = read(line, of_mlsd(line));
        assert_eq!((own.as_str(), metadata.size, metadata.mode), ("a b", 9, Some(0o640)));
        assert_eq!(stamp(metadata.modified.unwrap()), "20261129041000");
        assert_eq!(of_mlsd("type=cdir;modify=20261129041000; ."), None);
        let line = "type=OS.unix=slink:/Srv/World;modify=20261129041000; w";
        let (_, metadata) = read(line, of_mlsd(line));
        assert_eq!((metadata.kind, metadata.target.as_deref()), (RemoteKind::Link, Some("/Srv/World")));
        assert_eq!(of_list("total 12"), None);
    }

    #[test]
    fn times_are_written_as_they_are_read() {
        for (seconds, expected) in
            [(0, "19700101000000"), (951_782_400, "20000229000000"), (1_795_925_400, "20261129041000")]
        {
            assert_eq!(stamp(seconds), expected);
        }
    }
}
