//! What somebody who is to help needs to know of a start that went wrong: one text, without passwords and without players' addresses.

use std::sync::LazyLock;

use regex::{Captures, Regex};
use yalotheca_core::{diagnose::Verdict, id::ContentId};

use super::{
    check::{Depth, check},
    trial::TrialReport,
};
use crate::{AppError, Progress, Server, secrets::Secrets};

/// The maximum number of new log lines in the report.
const MOST_LINES: usize = 400;

/// Returns the text, in Markdown.
///
/// # Errors
/// If the server cannot be looked at.
pub fn support_text(
    server: &mut Server,
    report: &TrialReport,
    (version, progress): (&str, &dyn Progress),
) -> Result<String, AppError> {
    let mut text = String::new();
    let mut put = |line: &str| {
        text.push_str(line);
        text.push('\n');
    };
    put(&format!("# A start of {}", server.shown()));
    put("");
    put(&format!("- Yalotheca {version}, {}", system()));
    put(&format!("- {}", verdict(report)));
    section(
        &mut put,
        "Problems",
        report.troubles.iter().flat_map(|trouble| {
            let place = trouble.place.as_ref().map(|place| {
                format!(
                    "  - {}, line {}: `{}`",
                    place.file,
                    place.line,
                    place.text.as_deref().unwrap_or_default().trim()
                )
            });
            let contents: Vec<&str> = trouble.contents.iter().map(ContentId::as_str).collect();
            let about = (!contents.is_empty()).then(|| format!("  - about {}", contents.join(", ")));
            let new = if trouble.is_new == Some(false) { " (as always)" } else { "" };
            let said = (!trouble.line.is_empty()).then(|| format!("  - the log: `{}`", trouble.line.trim()));
            std::iter::once(format!("- {}{new}", trouble.says)).chain(place).chain(about).chain(said)
        }),
    );
    if let Some(since) = &report.since {
        let changes =
            since.changes.iter().map(|change| format!("- change {}: {}", change.number, change.summary));
        let files = since.files.iter().map(|path| format!("- different now: {path}"));
        let edited = since.edited.iter().map(|path| format!("- edited: {path}"));
        section(
            &mut put,
            &format!("Since the last good start ({})", since.when),
            changes.chain(files).chain(edited),
        );
    }
    if let Some(noise) = &report.noise {
        let lines =
            noise.new.iter().take(MOST_LINES).map(|new| format!("    {} × {}", new.times, new.line.trim()));
        section(&mut put, "New in the log", lines);
    }
    section(
        &mut put,
        "The log's last lines",
        report.last_lines.iter().map(|line| format!("    {}", line.trim_end())),
    );
    let findings = check(server, Depth::Changed, progress)?.findings;
    section(
        &mut put,
        "What check finds",
        findings.iter().map(|finding| format!("- {}: {}", finding.code, finding.says)),
    );
    let contents = server.control.lock.contents.iter().map(|locked| {
        let off = if locked.off || server.control.wants.off.contains_key(&locked.id) { ", off" } else { "" };
        format!("- {} {} ({}{off})", locked.id, locked.release.version.shown(), locked.release.kind)
    });
    section(&mut put, "Contents", contents);
    section(&mut put, "yalotheca.toml", server.control.wants_text.lines().map(|line| format!("    {line}")));
    let secrets = Secrets::of(&*server.tree, &server.game, &server.survey.scope);
    Ok(without_addresses(&without_folders(server, &secrets.hide(&text))))
}

fn section(put: &mut impl FnMut(&str), title: &str, lines: impl Iterator<Item = String>) {
    let lines: Vec<String> = lines.collect();
    if lines.is_empty() {
        return;
    }
    put("");
    put(&format!("## {title}"));
    put("");
    for line in &lines {
        put(line);
    }
}

fn verdict(report: &TrialReport) -> String {
    let end = match (report.ended_with, report.ended_by_signal) {
        (Some(code), _) => format!(", exit code {code}"),
        (None, Some(signal)) => format!(", signal {signal}"),
        (None, None) => String::new(),
    };
    match report.verdict {
        Verdict::Ready => "ready, no problems".into(),
        Verdict::ReadyWithTrouble => "ready, but something is wrong".into(),
        Verdict::Failed => format!("the start failed{end}"),
    }
}

fn system() -> String {
    let release = std::fs::read_to_string("/etc/os-release").unwrap_or_default();
    let name =
        release.lines().find_map(|line| line.strip_prefix("PRETTY_NAME=")).unwrap_or("an unknown system");
    format!("{} ({})", name.trim_matches('"'), std::env::consts::ARCH)
}

/// Removes the paths of the server's and the user's folder, which may name a person.
fn without_folders(server: &Server, text: &str) -> String {
    let text = match server.survey.scope.folder.as_str() {
        folder if folder.len() > 1 => text.replace(folder, "(the server)"),
        _ => text.to_owned(),
    };
    match std::env::var("HOME") {
        Ok(home) if home.len() > 1 => text.replace(&home, "~"),
        _ => text,
    }
}

/// Replaces addresses of the network, but for those that name no machine in particular.
fn without_addresses(text: &str) -> String {
    static ADDRESS: LazyLock<Option<Regex>> = LazyLock::new(|| {
        Regex::new(r"\b\d{1,3}(?:\.\d{1,3}){3}\b|\b(?:[0-9a-fA-F]{1,4}:){3,7}[0-9a-fA-F]{1,4}\b").ok()
    });
    let Some(address) = ADDRESS.as_ref() else { return text.to_owned() };
    let hidden = address.replace_all(text, |groups: &Captures<'_>| {
        let found = &groups[0];
        let is_general = ["127.", "0.0.0.0", "255."].iter().any(|general| found.starts_with(general));
        let is_address = found.contains(':') || found.split('.').all(|part| part.parse::<u8>().is_ok());
        if is_general || !is_address { found.to_owned() } else { "(an address)".to_owned() }
    });
    hidden.into_owned()
}

#[cfg(test)]
mod tests {
    use super::without_addresses;

    #[test]
    fn addresses_of_players_are_left_out_and_versions_and_times_stay() {
        let text = "wren joins from 203.0.113.9:4711 and 2001:db8:0:0:1:2:3:4 at 12:30:05, engine 2.4.1.900, on 127.0.0.1";
        let hidden = without_addresses(text);
        assert_eq!(
            hidden,
            "wren joins from (an address):4711 and (an address) at 12:30:05, engine 2.4.1.900, on 127.0.0.1"
        );
    }
}
