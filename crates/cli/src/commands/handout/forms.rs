//! The forms of a handout.

use std::fmt::Write as _;

use minijinja::{Environment, Value, context, value::Serde};
use serde::Serialize;
use yalotheca_app::{
    AppError,
    ops::handout::{Handout, HandoutChange, HandoutItem},
};

use yalotheca_core::{id::ContentId, version::ReleaseVersion};

use crate::view::size;

/// An item as the page's template wants it.
#[derive(Serialize)]
struct Entry<'a> {
    title: &'a str,
    version: String,
    link: Option<&'a str>,
    file: Option<&'a str>,
    size: Option<String>,
    blake3: Option<String>,
    new: bool,
    before: Option<String>,
    by_hand: bool,
}

impl<'a> Entry<'a> {
    fn of(item: &'a HandoutItem, by_hand: bool) -> Self {
        Self {
            title: &item.title,
            version: version(&item.version),
            link: item.link.as_deref(),
            file: item.file.as_deref(),
            size: item.bytes.map(size),
            // What games download they check themselves.
            blake3: item.blake3.filter(|_| by_hand).map(|digest| digest.to_string()),
            new: item.change == Some(HandoutChange::New),
            before: match &item.change {
                Some(HandoutChange::From(version)) => Some(version.to_string()),
                _ => None,
            },
            by_hand,
        }
    }
}

/// Returns a page that needs nothing else.
pub(super) fn html(handout: &Handout) -> Result<String, AppError> {
    let entries = |items: &'_ [HandoutItem], by_hand: bool| -> Vec<Value> {
        items.iter().map(|item| Value::from(Serde(Entry::of(item, by_hand)))).collect()
    };
    let mut environment = Environment::new();
    let failed = |error: minijinja::Error| AppError::Io {
        what: "writing the page".into(),
        source: std::io::Error::other(error),
    };
    environment.add_template("page.html", include_str!("page.html")).map_err(failed)?;
    let page = environment.get_template("page.html").map_err(failed)?;
    page.render(context! {
        server => handout.server.as_str(),
        game => handout.game.as_str(),
        install => entries(&handout.install, true),
        download => entries(&handout.download, false),
        pack => Value::from(Serde(&handout.pack)),
        mirror => handout.mirror.as_deref(),
        removed => handout.removed.iter().map(ToString::to_string).collect::<Vec<_>>(),
    })
    .map_err(failed)
}

/// Returns a version in words; nothing for what has none.
fn version(version: &ReleaseVersion) -> String {
    if version.is_unversioned() { String::new() } else { version.to_string() }
}

/// Returns a content's name with its version.
fn named(item: &HandoutItem, name: &str) -> String {
    format!("{name} {}", version(&item.version)).trim_end().to_owned()
}

fn change(item: &HandoutItem) -> String {
    match &item.change {
        None => String::new(),
        Some(HandoutChange::New) => " (new)".into(),
        Some(HandoutChange::From(version)) => format!(" (updated from {version})"),
    }
}

/// Returns text with Markdown's marks.
pub(super) fn markdown(handout: &Handout) -> String {
    let escaped = |text: &str| {
        text.chars().fold(String::new(), |mut out, c| {
            if matches!(c, '*' | '_' | '[' | ']' | '<' | '>' | '`' | '\\' | '#' | '|') {
                out.push('\\');
            }
            out.push(c);
            out
        })
    };
    let mut text =
        format!("# {}\n\nWhat players of this {} need.\n", escaped(&handout.server), escaped(&handout.game));
    // Writing to a String cannot fail.
    let mut list = |heading: &str, items: &[HandoutItem], by_hand: bool| {
        if items.is_empty() {
            return;
        }
        write!(text, "\n## {heading}\n\n").ok();
        for (at, item) in items.iter().enumerate() {
            let mark = if by_hand { format!("{}.", at + 1) } else { "-".into() };
            let name = named(item, &format!("**{}**", escaped(&item.title)));
            write!(text, "{mark} {name}{}", change(item)).ok();
            match (&item.link, by_hand) {
                (Some(link), _) => write!(text, ": <{link}>").ok(),
                (None, true) => write!(text, ": ask the server's crew").ok(),
                (None, false) => None,
            };
            text.push('\n');
            if let (Some(digest), true) = (&item.blake3, by_hand) {
                writeln!(text, "   BLAKE3 `{digest}`").ok();
            }
        }
    };
    list("Install, in exactly these versions", &handout.install, true);
    list("Downloaded by the game when you join", &handout.download, false);
    if let Some((pack, link)) = handout.pack.as_ref().and_then(|pack| Some((pack, pack.link.as_ref()?))) {
        let must = if pack.must == Some(true) { "; without it you cannot join" } else { "" };
        write!(text, "\n## Resource pack\n\n<{link}>\n\nThe game downloads it when you join{must}.\n").ok();
    }
    if !handout.removed.is_empty() {
        let removed: Vec<String> = handout.removed.iter().map(|id| escaped(id.as_str())).collect();
        write!(text, "\n## No longer needed\n\n{}\n", removed.join(", ")).ok();
    }
    if is_empty(handout) {
        text.push_str("\nNothing: the game alone is enough.\n");
    }
    text
}

fn is_empty(handout: &Handout) -> bool {
    handout.install.is_empty() && handout.download.is_empty() && handout.pack.is_none()
}

/// Returns plain text.
pub(super) fn text(handout: &Handout) -> String {
    let mut text = format!("{}\nWhat players of this {} need\n", handout.server, handout.game);
    // Writing to a String cannot fail.
    let mut list = |heading: &str, items: &[HandoutItem], by_hand: bool| {
        if items.is_empty() {
            return;
        }
        write!(text, "\n{heading}\n").ok();
        for item in items {
            writeln!(text, "  {}{}", named(item, &item.title), change(item)).ok();
            match (&item.link, by_hand) {
                (Some(link), _) => writeln!(text, "    {link}").ok(),
                (None, true) => {
                    let file = item.file.as_ref().map_or_else(String::new, |file| format!(" for {file}"));
                    writeln!(text, "    ask the server's crew{file}").ok()
                }
                (None, false) => None,
            };
            if let (Some(digest), true) = (&item.blake3, by_hand) {
                writeln!(text, "    BLAKE3 {digest}").ok();
            }
        }
    };
    list("Install, in exactly these versions", &handout.install, true);
    list("Downloaded by the game when you join", &handout.download, false);
    if let Some(mirror) = &handout.mirror {
        writeln!(text, "  from {mirror}").ok();
    }
    if let Some((pack, link)) = handout.pack.as_ref().and_then(|pack| Some((pack, pack.link.as_ref()?))) {
        let must = if pack.must == Some(true) { "; without it you cannot join" } else { "" };
        write!(text, "\nResource pack\n  {link}\n  The game downloads it when you join{must}.\n").ok();
    }
    if !handout.removed.is_empty() {
        let removed: Vec<&str> = handout.removed.iter().map(ContentId::as_str).collect();
        write!(text, "\nNo longer needed\n  {}\n", removed.join(", ")).ok();
    }
    if is_empty(handout) {
        text.push_str("\nNothing: the game alone is enough.\n");
    }
    text
}
