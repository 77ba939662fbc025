//! From the text of a definition to a [`Game`]: every mistake with its line and column.

use std::{collections::BTreeMap, ops::Range};

use globset::Glob;
use regex::Regex;
use toml::Spanned;

use super::{
    Agree, DescribeRule, DescriptorForm, Game, Kind, Pick, Place, PlaceRule, PlatformRule, Probe,
    RegisterRule, RegisterVerb, Run, Shape, StopSignal, Symptom, Template, Terms, ValueRule,
    raw::{
        RawAgree, RawDescribe, RawGame, RawKind, RawPick, RawPlatform, RawProbe, RawRegister, RawRun,
        RawSymptom, Text,
    },
};
use crate::{
    document::{Format, ParseDocumentError, Pointer, Value},
    hint::Hint,
    suggest,
};

/// What is wrong with a game definition.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}:{line}:{column}: {why}\n{excerpt}")]
pub struct LoadGameError {
    /// The file.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
    /// What is wrong.
    pub why: String,
    /// The line with a caret.
    pub excerpt: String,
    /// What could be meant.
    pub suggestion: Option<String>,
}

impl Hint for LoadGameError {
    fn hint(&self) -> Option<String> {
        self.suggestion
            .clone()
            .or_else(|| Some("docs/game-definitions.md tells what a definition can say".into()))
    }
}

type Checked<T> = Result<T, (Range<usize>, String)>;

/// Reads a definition; `file` is its name for messages.
///
/// # Errors
/// Where the text is not TOML, has an unknown or a missing key, or a template, pattern or pointer in it is wrong.
pub fn load(file: &str, text: &str) -> Result<Game, LoadGameError> {
    let fail = |span: Range<usize>, why: String, suggestion| {
        let place = ParseDocumentError::at(text, span.start, why);
        let ParseDocumentError { line, column, expected: why, excerpt } = place;
        LoadGameError { file: file.into(), line, column, why, excerpt, suggestion }
    };
    let raw: RawGame = toml::from_str(text).map_err(|error| {
        let suggestion = suggestion_in(error.message());
        fail(error.span().unwrap_or(0..0), error.message().to_owned(), suggestion)
    })?;
    Loader::new(&raw).and_then(|loader| loader.game(raw)).map_err(|(span, why)| fail(span, why, None))
}

/// Serde says ``unknown field `x`, expected one of `a`, `b` ``; the nearest of those is what was meant.
fn suggestion_in(message: &str) -> Option<String> {
    let names: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
    let (wrong, known) = names.split_first()?;
    message.starts_with("unknown").then(|| suggest::did_you_mean(wrong, known.iter().copied())).flatten()
}

struct Loader {
    /// What every template may name.
    server: Vec<String>,
}

fn with(names: &[String], more: &[&str]) -> Vec<String> {
    names.iter().cloned().chain(more.iter().map(ToString::to_string)).collect()
}

const CONTENT: &[&str] = &["content.id", "content.title", "content.kind", "release.version", "fact.*"];
const MEMBER: &[&str] = &["member.id", "member.folder"];

fn template(text: &Text, allowed: &[String]) -> Checked<Template> {
    Template::new(text.as_ref(), allowed).map_err(|why| (text.span(), why))
}

fn pattern(text: &Text) -> Checked<Regex> {
    Regex::new(text.as_ref()).map_err(|error| (text.span(), format!("the pattern is wrong: {error}")))
}

fn pattern_with(text: &Text, group: &str) -> Checked<Regex> {
    let regex = pattern(text)?;
    if regex.capture_names().flatten().any(|name| name == group) {
        return Ok(regex);
    }
    Err((text.span(), format!("the pattern needs a group (?<{group}>…)")))
}

fn number_of(value: &toml::Value) -> Option<String> {
    match value {
        toml::Value::String(text) => Some(text.clone()),
        toml::Value::Integer(number) => Some(number.to_string()),
        toml::Value::Boolean(flag) => Some(flag.to_string()),
        _ => None,
    }
}

impl Loader {
    fn new(raw: &RawGame) -> Checked<Self> {
        if *raw.format.as_ref() != 1 {
            return Err((
                raw.format.span(),
                format!("this program reads format 1, not {}", raw.format.as_ref()),
            ));
        }
        for name in raw.values.keys() {
            if !name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_') {
                return Err((raw.name.span(), format!("the value {name:?} needs a name of a-z, 0-9 and _")));
            }
        }
        let mut server: Vec<String> = raw.values.keys().map(|name| format!("values.{name}")).collect();
        server.push("folder".into());
        Ok(Self { server })
    }

    fn game(&self, raw: RawGame) -> Checked<Game> {
        let kinds: Vec<String> = raw.kind.keys().cloned().collect();
        let templates = |texts: &[Text]| {
            texts.iter().map(|text| template(text, &self.server)).collect::<Checked<Vec<_>>>()
        };
        let values = self.values(&raw)?;
        let mut provides = BTreeMap::new();
        for (kind, texts) in &raw.provides {
            provides.insert(kind.clone(), templates(texts)?);
        }
        let mut kinds_read = BTreeMap::new();
        for (name, kind) in raw.kind {
            kinds_read.insert(name, self.kind(kind, &kinds)?);
        }
        let platform = raw
            .platform
            .into_iter()
            .map(|(name, rule)| Ok((name, self.platform(rule)?)))
            .collect::<Checked<_>>()?;
        let terms = match raw.terms {
            Some(terms) => Some(Terms {
                place: Self::place(&terms.at, terms.form.as_ref(), &self.server)?,
                agreed: terms.agreed,
            }),
            None => None,
        };
        Ok(Game {
            name: raw.name.into_inner(),
            title: raw.title,
            values,
            recognise_all: templates(&raw.recognise.all)?,
            recognise_any: templates(&raw.recognise.any)?,
            platform,
            provides,
            kinds: kinds_read,
            never_touch: templates(&raw.never_touch.paths)?,
            agree: raw.agree.into_iter().map(|agree| self.agree(&agree)).collect::<Checked<_>>()?,
            terms,
            run: self.run(&raw.run)?,
            symptoms: raw.symptom.iter().map(|symptom| self.symptom(symptom)).collect::<Checked<_>>()?,
        })
    }

    /// Values may be read from files whose names hold other values; they are sorted so that each comes after those.
    fn values(&self, raw: &RawGame) -> Checked<Vec<(String, ValueRule)>> {
        let mut waiting: Vec<(&String, _)> = raw.values.iter().collect();
        let mut done: Vec<(String, ValueRule)> = Vec::new();
        while !waiting.is_empty() {
            let before = waiting.len();
            let mut still = Vec::new();
            for (name, rule) in waiting {
                let uses = |text: &Text| -> bool {
                    raw.values.keys().any(|other| {
                        text.as_ref().contains(&format!("values.{other}"))
                            && !done.iter().any(|(known, _)| known == other)
                    })
                };
                if rule.from.as_ref().is_some_and(uses) {
                    still.push((name, rule));
                    continue;
                }
                let from =
                    rule.from.as_ref().map(|from| Self::place(from, None, &self.server)).transpose()?;
                let default = match &rule.default {
                    Some(value) => Some(number_of(value.as_ref()).ok_or_else(|| {
                        (value.span(), "a default is a text, a whole number, true or false".to_owned())
                    })?),
                    None => None,
                };
                done.push((name.clone(), ValueRule { from, default, help: rule.help.clone() }));
            }
            if still.len() == before {
                return Err((
                    raw.name.span(),
                    format!("the value {:?} is read by way of itself", still[0].0),
                ));
            }
            waiting = still;
        }
        Ok(done)
    }

    /// Reads `file#/pointer`.
    fn place(text: &Text, form: Option<&Text>, allowed: &[String]) -> Checked<Place> {
        let whole = text.as_ref();
        let Some((file, pointer)) = whole.split_once('#') else {
            return Err((text.span(), format!("{whole:?} must be written as file#/pointer")));
        };
        // Templates in a pointer are filled first, so only its beginning can be looked at here.
        if !pointer.is_empty() && !pointer.starts_with('/') {
            return Err((text.span(), format!("the pointer {pointer:?} must be empty or begin with '/'")));
        }
        let format = match form {
            Some(form) => match form.as_ref().as_str() {
                "properties" => Format::Properties,
                "lines" => Format::Lines,
                "json" => Format::Json,
                other => {
                    let near = suggest::did_you_mean(other, ["properties", "lines", "json"]);
                    let near = near.map_or_else(String::new, |near| format!("; {near}"));
                    return Err((form.span(), format!("{other:?} is not a format{near}")));
                }
            },
            None => Format::of_name(file).ok_or_else(|| {
                (text.span(), format!("the name {file:?} does not tell its format; say it with \"as\""))
            })?,
        };
        let part = |part: &str| Template::new(part, allowed).map_err(|why| (text.span(), why));
        Ok(Place { file: part(file)?, pointer: part(pointer)?, format })
    }

    fn platform(&self, raw: RawPlatform) -> Checked<PlatformRule> {
        match raw {
            RawPlatform { from: Some(from), inside: Some(inside), command: None, pattern: None } => {
                let archive = template(&inside, &self.server)?;
                Ok(PlatformRule::Inside { archive, place: Self::place(&from, None, &self.server)? })
            }
            RawPlatform { from: Some(from), inside: None, command: None, pattern: None } => {
                Ok(PlatformRule::File(Self::place(&from, None, &self.server)?))
            }
            RawPlatform { from: None, inside: None, command: Some(command), pattern: Some(text) } => {
                let command =
                    command.iter().map(|text| template(text, &self.server)).collect::<Checked<_>>()?;
                Ok(PlatformRule::Command { command, pattern: pattern_with(&text, "version")? })
            }
            RawPlatform { from, command, pattern, .. } => {
                let span =
                    from.or(pattern).or_else(|| command?.into_iter().next()).map_or(0..0, |text| text.span());
                Err((
                    span,
                    "a platform part has either \"from\" (and \"inside\") or \"command\" and \"match\""
                        .into(),
                ))
            }
        }
    }

    fn kind(&self, raw: RawKind, kinds: &[String]) -> Checked<Kind> {
        let shape = match raw.shape.as_ref().as_str() {
            "archive" => Shape::Archive,
            "folder" => Shape::Folder,
            other => {
                return Err((
                    raw.shape.span(),
                    format!("{other:?} is not a shape: \"archive\" or \"folder\""),
                ));
            }
        };
        let known = |text: &Text| {
            if kinds.contains(text.as_ref()) {
                return Ok(text.as_ref().clone());
            }
            let near = suggest::did_you_mean(text.as_ref(), kinds.iter().map(String::as_str));
            let near = near.map_or_else(String::new, |near| format!("; {near}"));
            Err((text.span(), format!("there is no kind {:?}{near}", text.as_ref())))
        };
        let content = with(&self.server, CONTENT);
        let of_member = with(&content, MEMBER);
        let has_members = !raw.members.is_empty();
        let log = |text: &Option<Text>| {
            let allowed = if has_members { &of_member } else { &content };
            text.as_ref().map(|text| template(text, allowed)).transpose()
        };
        Ok(Kind {
            shape,
            suffix: raw.suffix,
            marker: raw.marker.0,
            describe: raw
                .describe
                .into_iter()
                .map(|rule| self.describe_rule(rule))
                .collect::<Checked<_>>()?,
            members: raw.members.iter().map(known).collect::<Checked<_>>()?,
            place: raw
                .place
                .iter()
                .map(|place| Ok(PlaceRule { into: template(&place.into, &content)? }))
                .collect::<Checked<_>>()?,
            register: raw
                .register
                .iter()
                .map(|rule| {
                    let each = rule.each.as_ref().map(known).transpose()?;
                    Self::register(rule, if each.is_some() { &of_member } else { &content }, each)
                })
                .collect::<Checked<_>>()?,
            loaded: log(&raw.loaded)?,
            failed: log(&raw.failed)?,
        })
    }

    fn describe_rule(&self, raw: RawDescribe) -> Checked<DescribeRule> {
        let file = raw.file.as_ref().clone();
        let span = raw.file.span();
        let form = match raw.form.as_ref().map(|text| text.as_ref().as_str()) {
            Some("json") => DescriptorForm::Json,
            Some("toml") => DescriptorForm::Toml,
            Some("properties") => DescriptorForm::Properties,
            Some("lines") => DescriptorForm::Lines,
            Some(other) => return Err((span, format!("{other:?} is not a descriptor's format"))),
            None => match file.rsplit_once('.').map_or("", |(_, suffix)| suffix) {
                "json" => DescriptorForm::Json,
                "toml" => DescriptorForm::Toml,
                "conf" | "properties" => DescriptorForm::Properties,
                _ => {
                    return Err((
                        span,
                        format!("the name {file:?} does not tell its format; say it with \"as\""),
                    ));
                }
            },
        };
        let mut picks = BTreeMap::new();
        for (what, pick) in [
            ("id", raw.id),
            ("title", raw.title),
            ("about", raw.about),
            ("version", raw.version),
            ("needs", raw.needs),
            ("welcomes", raw.welcomes),
            ("refuses", raw.refuses),
            ("after", raw.after),
            ("before", raw.before),
        ] {
            if let Some(pick) = pick {
                picks.insert(what, self.pick(pick, &span)?);
            }
        }
        let platform = raw
            .platform
            .into_iter()
            .map(|(part, pick)| Ok((part, self.pick(pick, &span)?)))
            .collect::<Checked<_>>()?;
        Ok(DescribeRule { file, form, picks, platform })
    }

    fn pick(&self, raw: RawPick, rule: &Range<usize>) -> Checked<Pick> {
        let (at, span) = match raw.at {
            Some(text) => {
                let span = if text.span() == (0..0) { rule.clone() } else { text.span() };
                (text.into_inner(), span)
            }
            None => (String::new(), rule.clone()),
        };
        let allowed = with(&self.server, &["it"]);
        Ok(Pick {
            at: Pointer::parse(&at).map_err(|error| (span, error.to_string()))?,
            split: raw.split,
            item: raw.item.as_ref().map(|text| pattern_with(text, "id")).transpose()?,
            range: raw.range.as_ref().map(|text| template(text, &allowed)).transpose()?,
            map: raw.map.into_iter().map(|(from, to)| (from, to.into_inner())).collect(),
        })
    }

    fn register(raw: &RawRegister, allowed: &[String], each: Option<String>) -> Checked<RegisterRule> {
        let (place, verb) = match raw {
            RawRegister { set: Some(at), to: Some(to), list: None, item: None, ordered: false, .. } => {
                (at, set_verb(to, allowed)?)
            }
            RawRegister { set: None, to: None, list: Some(at), item: Some(item), ordered, .. } => {
                (at, RegisterVerb::Item { item: template(item, allowed)?, ordered: *ordered })
            }
            RawRegister { set, list, item, .. } => {
                let span = set.as_ref().or(list.as_ref()).or(item.as_ref()).map_or(0..0, Spanned::span);
                return Err((
                    span,
                    "a registration has either \"set\" and \"to\", or \"list\" and \"item\"".into(),
                ));
            }
        };
        let place = Self::place(place, raw.form.as_ref(), allowed)?;
        let create = raw.create.clone().unwrap_or_else(|| match place.format {
            Format::Json => "{}\n".into(),
            Format::Properties | Format::Lines => String::new(),
        });
        Ok(RegisterRule { place, verb, each, create })
    }

    fn agree(&self, raw: &RawAgree) -> Checked<Agree> {
        match raw {
            RawAgree {
                file: Some(file),
                named: Some(named),
                near,
                value: None,
                is: None,
                inside: None,
                say,
            } => {
                let near = near
                    .as_ref()
                    .map(|text| {
                        Glob::new(text.as_ref())
                            .map(|glob| glob.compile_matcher())
                            .map_err(|error| (text.span(), error.to_string()))
                    })
                    .transpose()?;
                Ok(Agree::File {
                    file: template(file, &self.server)?,
                    named: Self::place(named, None, &self.server)?,
                    near,
                    say: template(say, &self.server)?,
                })
            }
            RawAgree {
                file: None,
                named: None,
                near: None,
                value: Some(value),
                is: Some(is),
                inside,
                say,
            } => Ok(Agree::Value {
                value: Self::place(value, None, &self.server)?,
                is: Self::place(is, None, &self.server)?,
                inside: inside.as_ref().map(|text| template(text, &self.server)).transpose()?,
                say: template(say, &with(&self.server, &["found", "expected"]))?,
            }),
            RawAgree { say, .. } => Err((
                say.span(),
                "an agreement has either \"file\" and \"named\", or \"value\" and \"is\"".into(),
            )),
        }
    }

    fn run(&self, raw: &RawRun) -> Checked<Run> {
        let templates =
            |texts: &[Text]| texts.iter().map(|text| template(text, &self.server)).collect::<Checked<_>>();
        let patterns = |texts: &[Text]| texts.iter().map(pattern).collect::<Checked<Vec<_>>>();
        let stop = match raw.stop.as_ref().as_str() {
            "TERM" => StopSignal::Term,
            "INT" => StopSignal::Int,
            other => {
                return Err((raw.stop.span(), format!("{other:?} is not a signal: \"TERM\" or \"INT\"")));
            }
        };
        let mut env = BTreeMap::new();
        for (name, text) in &raw.env {
            env.insert(name.clone(), template(text, &self.server)?);
        }
        Ok(Run {
            command: templates(&raw.command)?,
            env,
            stop,
            ready: pattern(&raw.ready)?,
            quiet_ms: raw.quiet.as_ref().map_or(Ok(500), milliseconds)?,
            probe: raw.probe.as_ref().map(|probe| self.probe(probe)).transpose()?,
            fatal: patterns(&raw.fatal)?,
            trouble: patterns(&raw.trouble)?,
            logs: raw.logs.clone(),
        })
    }

    fn probe(&self, raw: &RawProbe) -> Checked<Probe> {
        match raw {
            RawProbe { tcp: Some(port), udp: None, send: None } => {
                Ok(Probe::Tcp(template(port, &self.server)?))
            }
            RawProbe { tcp: None, udp: Some(port), send: Some(send) } => {
                Ok(Probe::Udp { port: template(port, &self.server)?, send: bytes_of(send)? })
            }
            RawProbe { tcp, udp, .. } => {
                let span = tcp.as_ref().or(udp.as_ref()).map_or(0..0, Spanned::span);
                Err((span, "a probe has either \"tcp\", or \"udp\" and \"send\"".into()))
            }
        }
    }

    fn symptom(&self, raw: &RawSymptom) -> Checked<Symptom> {
        let regex = pattern(&raw.pattern)?;
        let groups: Vec<&str> = regex.capture_names().flatten().collect();
        let allowed = with(&self.server, &groups);
        Ok(Symptom {
            means: raw.means.clone(),
            say: template(&raw.say, &allowed)?,
            advice: raw.advice.as_ref().map(|text| template(text, &allowed)).transpose()?,
            pattern: regex,
        })
    }
}

fn set_verb(to: &Spanned<toml::Value>, allowed: &[String]) -> Checked<RegisterVerb> {
    let plain = |value| RegisterVerb::Set { text: None, plain: Some(value) };
    Ok(match to.as_ref() {
        toml::Value::String(text) => {
            let text = Template::new(text, allowed).map_err(|why| (to.span(), why))?;
            RegisterVerb::Set { text: Some(text), plain: None }
        }
        toml::Value::Boolean(flag) => plain(Value::Flag(*flag)),
        toml::Value::Integer(number) => plain(Value::Whole(*number)),
        toml::Value::Float(number) => plain(Value::Real(*number)),
        _ => return Err((to.span(), "a value to set is a text, a number, true or false".into())),
    })
}

/// Reads `300ms` or `2s`.
fn milliseconds(text: &Text) -> Checked<u64> {
    let whole = text.as_ref();
    let read = match whole.strip_suffix("ms") {
        Some(number) => number.parse().ok(),
        None => whole.strip_suffix('s').and_then(|number| number.parse::<u64>().ok()).map(|s| s * 1000),
    };
    read.filter(|ms| *ms <= 600_000)
        .ok_or_else(|| (text.span(), format!("{whole:?} is not a time: write 300ms or 2s, at most 600s")))
}

fn bytes_of(text: &Text) -> Checked<Vec<u8>> {
    let hex = text.as_ref();
    let wrong = || (text.span(), format!("{hex:?} must be hexadecimal digits, two for each byte"));
    if !hex.is_ascii() || hex.len() % 2 != 0 {
        return Err(wrong());
    }
    (0..hex.len())
        .step_by(2)
        .map(|at| u8::from_str_radix(&hex[at..at + 2], 16).map_err(|_| wrong()))
        .collect()
}
