//! What lines of any server's log mean, whatever the game: missing files, taken ports, full disks, syntax errors.

use std::sync::LazyLock;

use regex::Regex;

/// What a line means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Meaning {
    /// In two or three words.
    pub means: &'static str,
    /// In a sentence.
    pub says: String,
    /// What can be done.
    pub advice: &'static str,
}

struct General {
    pattern: &'static str,
    means: &'static str,
    /// `{what}`, `{file}` and `{line}` are filled with the pattern's groups.
    says: &'static str,
    advice: &'static str,
}

/// The first that fits counts.
const ALL: &[General] = &[
    General {
        pattern: r"error while loading shared libraries: (?<what>[^:\s]+)|(?<what2>lib[\w.+-]+\.so[\w.]*): cannot open shared object",
        means: "missing library",
        says: "the library {what} is not installed",
        advice: "install the package that contains it, then start the server again",
    },
    General {
        pattern: r"(?i)no space left on device|ENOSPC|disk quota exceeded|disk (is )?full",
        means: "disk full",
        says: "the disk is full",
        advice: "make room on the server's disk; old backups and logs are the first to look at",
    },
    General {
        pattern: r"(?i)out of memory|OutOfMemoryError|std::bad_alloc|cannot allocate memory|not enough memory|ENOMEM|heap space",
        means: "out of memory",
        says: "the server ran out of memory",
        advice: "give it more in its launch settings, or stop something else on the machine",
    },
    General {
        pattern: r"(?i)address already in use|EADDRINUSE|port (?<what>\d+)? ?(is )?already (in use|taken|bound)|failed to bind|couldn't (open|bind) socket|cannot bind",
        means: "port taken",
        says: "another program has a port that the server needs",
        advice: "stop that program, or give this server another port",
    },
    General {
        pattern: r"(?i)cannot assign requested address|EADDRNOTAVAIL",
        means: "wrong address",
        says: "the server is to listen at an address that this machine does not have",
        advice: "correct the address in the server's configuration, or leave it empty",
    },
    General {
        pattern: r#"(?i)(?:['"(](?<what>[^'"()]+)['")]|(?<what2>\S+))?:? ?(permission denied|access is denied|EACCES|operation not permitted)"#,
        means: "permission denied",
        says: "the server may not read or write {what}",
        advice: "let the file or folder belong to the user that runs the server",
    },
    General {
        pattern: r"(?i)unexpected end of (zlib|zip|archive|file|stream|input)|end.of.central.directory|EOCD|truncated (archive|zip|file)|zip (file )?is (corrupt|truncated)|premature end|invalid zip|not a zip|bad zip",
        means: "incomplete archive",
        says: "an archive is incomplete or damaged",
        advice: "download it again; a check of every byte finds damaged files",
    },
    General {
        pattern: r"(?i)file is not a database|database disk image is malformed|database (file )?is (corrupt|damaged)|DatabaseException",
        means: "damaged database",
        says: "a database of the server is damaged",
        advice: "put a backup of the world back; the lines around it in the log say which file it is",
    },
    General {
        pattern: r"(?i)UnsupportedClassVersionError|unsupported (class file|major\.minor) version|requires (at least )?(java|runtime|python|lua|\.net) \S+|needs a newer (runtime|version)",
        means: "wrong runtime",
        says: "something was made for a newer runtime than the server has",
        advice: "install the runtime that it needs, or an older release of that content",
    },
    General {
        pattern: r"(?i)(?<what>\S+)?:? ?(unrecogni[sz]ed|unknown|invalid) (option|argument|switch|parameter)",
        means: "unknown option",
        says: "the server was started with an option that it does not know",
        advice: "correct the start command or the launch settings",
    },
    General {
        pattern: r#"(?i)(?<file>[\w./ -]*[\w-]+\.\w{1,6})(:|", line |, line | line | at line |\()(?<line>\d+)\D.*?(syntax|parse|expected|unexpected|malformed|invalid|unclosed|unterminated)|(syntax|parse|expected|unexpected|malformed|invalid|unclosed|unterminated).*?(?<file2>[\w./-]*[\w-]+\.\w{1,6})(:|", line |, line | line | at line |\()(?<line2>\d+)"#,
        means: "syntax error",
        says: "{file} cannot be read: line {line} is not well-formed",
        advice: "correct that line, or take back the change that wrote it",
    },
    General {
        pattern: r#"(?i)(?:['"](?<what>[^'"]+)['"]|(?<what2>[\w./-]*[/.][\w./-]+))?:? ?(no such file or directory|file not found|ENOENT|could not be found|cannot find the file)|(cannot|could not|couldn't|unable to|failed to) (open|find|read|load) (file )?['"]?(?<what3>[\w./-]+\.\w{1,6})"#,
        means: "missing file",
        says: "{what} is missing",
        advice: "put it back; a check names contents whose files are missing",
    },
];

static PATTERNS: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    // A test makes sure that each is one.
    ALL.iter().filter_map(|general| Regex::new(general.pattern).ok()).collect()
});

/// Returns what a line means; nothing for a line that no rule fits.
pub fn meaning(line: &str) -> Option<Meaning> {
    let (general, groups) = ALL
        .iter()
        .zip(PATTERNS.iter())
        .find_map(|(general, pattern)| Some((general, pattern.captures(line)?)))?;
    let group = |name: &str| {
        let names = [name.to_owned(), format!("{name}2"), format!("{name}3")];
        let text = names.iter().find_map(|name| groups.name(name))?.as_str().trim();
        (!text.is_empty()).then(|| text.to_owned())
    };
    let what = group("what").unwrap_or_else(|| "a file".into());
    let says = general.says.replace("{what}", &what);
    let says = says.replace("{file}", &group("file").unwrap_or_else(|| "a file".into()));
    let says = says.replace("{line}", &group("line").unwrap_or_default());
    Some(Meaning { means: general.means, says, advice: general.advice })
}

/// Returns the file and the line (from 1) that a line of a log names; of several the first.
pub fn place(line: &str) -> Option<(String, usize)> {
    static PLACE: LazyLock<Option<Regex>> = LazyLock::new(|| {
        Regex::new(
            r#"(?i)(?<file>[\w./-]*[\w-]+\.[a-z]\w{0,6})["']?(?::|,? (?:at )?line |\(|, line )(?<line>\d+)"#,
        )
        .ok()
    });
    let groups = PLACE.as_ref()?.captures(line)?;
    Some((groups["file"].to_owned(), groups["line"].parse().ok()?))
}

/// Returns whether a line belongs to a stack trace and tells no cause of its own.
pub fn is_frame(line: &str) -> bool {
    static FRAME: LazyLock<Option<Regex>> = LazyLock::new(|| {
        Regex::new(r#"^\s+(at \S|\[C\]|\d+: |File "|\.\.\. \d+ more|in (function|main chunk))|^\s+[\w./@-]+:\d+: in |^(stack traceback:|Traceback \(most recent call last\):)|^\s*at [\w.$<>]+\("#).ok()
    });
    FRAME.as_ref().is_some_and(|frame| frame.is_match(line))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_pattern_is_one() {
        assert_eq!(PATTERNS.len(), ALL.len());
    }

    #[test]
    fn lines_of_any_server_are_understood() {
        for (line, means, says) in [
            (
                "./quay: error while loading shared libraries: libtide.so.3: cannot open shared object file",
                "missing library",
                "libtide.so.3",
            ),
            ("write failed: No space left on device", "disk full", "full"),
            ("java.lang.OutOfMemoryError: Java heap space", "out of memory", "memory"),
            ("terminate called after throwing an instance of 'std::bad_alloc'", "out of memory", "memory"),
            ("bind: Address already in use", "port taken", "port"),
            ("open('/srv/quay/ban.list'): Permission denied", "permission denied", "/srv/quay/ban.list"),
            ("world/world.mt: Permission denied", "permission denied", "world/world.mt"),
            (
                "java.util.zip.ZipException: zip END header not found, end of central directory",
                "incomplete archive",
                "incomplete",
            ),
            ("quay: unrecognized option '--carrry'", "unknown option", "option"),
            (
                "plugins/tidebell/settings.yml:14: unexpected character",
                "syntax error",
                "plugins/tidebell/settings.yml cannot be read: line 14",
            ),
            ("parse error in host.cfg, line 3", "syntax error", "host.cfg cannot be read: line 3"),
            ("could not open file maps/pier.kmap", "missing file", "maps/pier.kmap is missing"),
            (
                "'towns/quay/level.dat': No such file or directory",
                "missing file",
                "towns/quay/level.dat is missing",
            ),
            ("x.UnsupportedClassVersionError: made by a newer compiler", "wrong runtime", "newer runtime"),
        ] {
            let meaning = meaning(line).unwrap_or_else(|| panic!("{line}"));
            assert_eq!(meaning.means, means, "{line}");
            assert!(meaning.says.contains(says), "{line}: {}", meaning.says);
        }
        assert_eq!(meaning("harbour open on port 7710"), None);
        assert_eq!(
            place("mods/gull/init.lua:12: attempt to index nil"),
            Some(("mods/gull/init.lua".into(), 12))
        );
        assert_eq!(place("at port 12:30"), None);
        assert!(is_frame("\tat quay.Tide.ring(Tide.java:14)") && is_frame("stack traceback:"));
        assert!(is_frame("  mods/gull/init.lua:12: in main chunk") && !is_frame("ModError: it failed"));
    }
}
