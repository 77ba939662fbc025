//! What can be set, as a result and as text.

use serde::Serialize;
use yalotheca_app::words::ServerName;
use yalotheca_app::{Server, plan::OpenSettings};
use yalotheca_core::{
    document::{Pointer, Value},
    settings::Settings,
};

use crate::view::{Cell, Page, Role, View, count};

/// All settings files.
#[derive(Debug, Serialize)]
pub(super) struct FilesView {
    server: ServerName,
    files: Vec<FileLine>,
}

#[derive(Debug, Serialize)]
struct FileLine {
    owner: String,
    file: String,
    title: String,
    state: State,
    settings: usize,
    yours: usize,
    launch: bool,
}

/// How a settings file is.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
enum State {
    There,
    /// It comes into being when the server starts.
    Pending,
    Missing,
    Broken {
        line: usize,
        expected: String,
    },
    /// A tweak's parameters are in no file of their own.
    Parameters,
}

impl State {
    fn of(one: &OpenSettings) -> Self {
        match &one.now {
            _ if one.path.is_none() => Self::Parameters,
            Some(Ok(_)) => Self::There,
            Some(Err(error)) => Self::Broken { line: error.line, expected: error.expected.clone() },
            None if one.appears => Self::Pending,
            None => Self::Missing,
        }
    }

    fn words(&self) -> Option<(Role, String)> {
        Some(match self {
            Self::There | Self::Parameters => return None,
            Self::Pending => (Role::Warn, "pending: the server makes the file when it starts".into()),
            Self::Missing => (Role::Dim, "not there".into()),
            Self::Broken { line, expected } => (Role::Bad, format!("broken at line {line}: {expected}")),
        })
    }
}

fn asked<'s>(settings: &'s Settings, one: &OpenSettings, at: &Pointer) -> Option<&'s Value> {
    settings.get(&one.owner)?.get(&one.short)?.get(at)
}

fn number_asked(settings: &Settings, one: &OpenSettings) -> usize {
    settings
        .get(&one.owner)
        .and_then(|files| files.get(&one.short))
        .map_or(0, std::collections::BTreeMap::len)
}

impl FilesView {
    pub(super) fn of(server: &Server, all: &[OpenSettings], settings: &Settings) -> Self {
        let line = |one: &OpenSettings| FileLine {
            owner: one.owner.clone(),
            file: one.path.as_ref().map_or_else(String::new, ToString::to_string),
            title: one.title.clone(),
            state: State::of(one),
            settings: one.known().places().len(),
            yours: number_asked(settings, one),
            launch: one.launch,
        };
        Self { server: server.shown(), files: all.iter().map(line).collect() }
    }
}

impl View for FilesView {
    fn view(&self, page: &mut Page) {
        if self.files.is_empty() {
            page.line(Role::Plain, &format!("{}: nothing is known here that can be set.", self.server));
            return;
        }
        page.line(Role::Head, &format!("What can be set on {}", self.server));
        let rows: Vec<Vec<Cell>> = self
            .files
            .iter()
            .map(|line| {
                let what = if line.launch { "how it starts" } else { line.title.as_str() };
                let yours = if line.yours > 0 { format!(", {} yours", line.yours) } else { String::new() };
                let many = format!("{}{yours}", count(line.settings, "setting"));
                let (role, state) = line.state.words().unwrap_or((Role::Dim, what.to_owned()));
                let file = if line.file.is_empty() { "(a tweak's parameters)" } else { line.file.as_str() };
                vec![
                    Cell::new(Role::Name, line.owner.clone()),
                    Cell::plain(file),
                    Cell::plain(many),
                    Cell::new(role, state),
                ]
            })
            .collect();
        page.table(&rows);
        page.gap();
        page.line(Role::Dim, "yalotheca settings NAME lists the settings of one of them.");
    }
}

/// The settings of one owner.
#[derive(Debug, Serialize)]
pub(super) struct KeysView {
    server: ServerName,
    name: String,
    files: Vec<KeysFile>,
}

#[derive(Debug, Serialize)]
struct KeysFile {
    file: String,
    short: String,
    state: State,
    settings: Vec<KeyLine>,
}

#[derive(Debug, Serialize)]
struct KeyLine {
    at: Pointer,
    #[serde(skip_serializing_if = "Option::is_none")]
    value: Option<Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    default: Option<Value>,
    sort: String,
    /// Whether it is noted in `yalotheca.toml`.
    yours: bool,
    /// What it will be once that can be set.
    #[serde(skip_serializing_if = "Option::is_none")]
    wanted: Option<Value>,
    #[serde(skip_serializing_if = "String::is_empty")]
    help: String,
}

impl KeysView {
    pub(super) fn of(server: &Server, name: &str, own: &[&OpenSettings], settings: &Settings) -> Self {
        let file = |one: &&OpenSettings| {
            let known = one.known();
            let mut places = known.places();
            let noted = settings.get(&one.owner).and_then(|files| files.get(&one.short));
            places.extend(noted.into_iter().flatten().map(|(at, _)| at.clone()));
            let mut seen = std::collections::BTreeSet::new();
            places.retain(|at| seen.insert(at.clone()));
            let line = |at: Pointer| {
                let wanted = asked(settings, one, &at);
                let hidden = |value: Value| {
                    let is_secret = known.is_secret(&at, &value) && !value.plain().is_empty();
                    if is_secret { Value::from("(a secret)") } else { value }
                };
                let value = one.value_of(&at, wanted).map(hidden);
                let default = one.default_of(&at);
                let rule = known.rule(&at);
                let like = value.as_ref().or(default.as_ref());
                let sort = match rule {
                    Some(rule) if rule.sort == yalotheca_core::settings::SettingType::Text => {
                        "text".to_owned()
                    }
                    Some(rule) => rule.takes().trim_start_matches("it takes ").to_owned(),
                    None => like.map_or("", yalotheca_core::settings::sort_of).to_owned(),
                };
                KeyLine {
                    sort,
                    yours: wanted.is_some(),
                    wanted: wanted
                        .filter(|wanted| value.as_ref().is_none_or(|now| !now.means(wanted)))
                        .cloned(),
                    default: default.filter(|default| value.as_ref().is_none_or(|now| !now.means(default))),
                    help: rule.map_or_else(String::new, |rule| rule.help.clone()),
                    value,
                    at,
                }
            };
            KeysFile {
                file: one.path.as_ref().map_or_else(String::new, ToString::to_string),
                short: one.short.clone(),
                state: State::of(one),
                settings: places.into_iter().map(line).collect(),
            }
        };
        Self { server: server.shown(), name: name.into(), files: own.iter().map(file).collect() }
    }
}

/// Values longer than this are cut in the table; `--json` has them whole.
const LONGEST: usize = 40;

fn shown(value: &Value) -> String {
    let text = value.plain().replace('\n', " ");
    if text.is_empty() {
        return "(empty)".into();
    }
    if text.chars().count() <= LONGEST {
        return text;
    }
    format!("{}…", text.chars().take(LONGEST - 1).collect::<String>())
}

impl View for KeysView {
    fn view(&self, page: &mut Page) {
        page.line(Role::Head, &format!("Settings of {} on {}", self.name, self.server));
        for file in &self.files {
            page.head(if file.file.is_empty() { "Parameters" } else { &file.file });
            if let Some((role, words)) = file.state.words() {
                page.item(role, &words);
            }
            let rows: Vec<Vec<Cell>> = file.settings.iter().map(row).collect();
            page.table(&rows);
        }
        page.gap();
        let yours = self.files.iter().flat_map(|file| &file.settings).filter(|line| line.yours).count();
        let text = if yours > 0 {
            format!("* {yours} set by you, kept through updates. --reset PLACE takes one back.")
        } else {
            format!("yalotheca settings {} PLACE=VALUE sets one.", self.name)
        };
        page.line(Role::Dim, &text);
    }
}

fn row(line: &KeyLine) -> Vec<Cell> {
    let value = match (&line.value, &line.wanted) {
        (_, Some(wanted)) => Cell::new(Role::Warn, format!("{} (waits)", shown(wanted))),
        (Some(value), None) if line.yours => Cell::new(Role::Good, shown(value)),
        (Some(value), None) => Cell::plain(shown(value)),
        (None, None) => match &line.default {
            Some(default) => Cell::new(Role::Dim, shown(default)),
            None => Cell::new(Role::Dim, "(not set)"),
        },
    };
    let mut notes: Vec<String> = Vec::new();
    if !line.help.is_empty() {
        notes.push(line.help.clone());
    }
    if line.sort != "text"
        && !line.sort.is_empty()
        && (line.help.is_empty() || !line.sort.starts_with("three"))
    {
        notes.push(line.sort.clone());
    }
    if let (Some(default), true) = (&line.default, line.value.is_some()) {
        notes.push(format!("default {}", shown(default)));
    }
    let mark = if line.yours { "*" } else { "" };
    vec![
        Cell::new(Role::Good, mark),
        Cell::new(Role::Name, line.at.to_string()),
        value,
        Cell::new(Role::Dim, notes.join("; ")),
    ]
}
