//! From the text of a definition to a [`Game`]: every mistake with its line and column.

mod console;
mod join;
mod kind;
mod limit;
mod maps;
mod mirror;
mod pack;
mod reference;
mod run;
mod runtime;
mod shared;

use std::{
    collections::{BTreeMap, BTreeSet},
    ops::Range,
};

use globset::{Glob, GlobMatcher};

pub(crate) use kind::register_rule;

use super::{
    ConfigPlace, Game, Kind, LeaveOut, LinkRule, LinkWay, OrderGroups, Pattern, PlatformRule, Template,
    Terms, ValueRule,
    raw::{RawGame, RawLeaveOut, RawLink, RawOrder, RawPlatform, Text},
};
use crate::{
    document::{Format, Pointer},
    game::{PACK_KIND, TWEAK_KIND},
    suggest,
    toml_file::{ReadTomlError, TomlFile},
};

type Checked<T> = Result<T, (Range<usize>, String)>;

/// Reads a definition; `file` is its name for messages.
///
/// # Errors
/// Where the text is not TOML, has an unknown or a missing key, or a template, pattern or pointer in it is wrong.
pub fn load(file: &str, text: &str) -> Result<Game, ReadTomlError> {
    let file =
        TomlFile { name: file, text, advice: "docs/game-definitions.md tells what a definition can say" };
    let raw: RawGame = file.read()?;
    Loader::new(&raw).and_then(|loader| loader.game(raw)).map_err(|(span, why)| file.mistake(&span, why))
}

#[derive(Default)]
struct Loader {
    /// What every template may name.
    server: Vec<String>,
    /// The files in which a comment's sign begins one wherever it is.
    comments_anywhere: BTreeSet<String>,
    stray_lines: BTreeSet<String>,
    has_console: bool,
}

fn with(names: &[String], more: &[&str]) -> Vec<String> {
    names.iter().cloned().chain(more.iter().map(ToString::to_string)).collect()
}

fn template(text: &Text, allowed: &[String]) -> Checked<Template> {
    Template::new(text.as_ref(), allowed).map_err(|why| (text.span(), why))
}

fn pattern(text: &Text) -> Checked<Pattern> {
    Pattern::new(text.as_ref()).map_err(|why| (text.span(), format!("the pattern is wrong: {why}")))
}

fn pattern_with(text: &Text, group: &str) -> Checked<Pattern> {
    let pattern = pattern(text)?;
    if pattern.groups().any(|name| name == group) {
        return Ok(pattern);
    }
    Err((text.span(), format!("the pattern needs a group (?<{group}>…)")))
}

fn glob(text: &Text) -> Checked<GlobMatcher> {
    let glob = Glob::new(text.as_ref())
        .map_err(|error| (text.span(), format!("the pattern is wrong: {}", error.kind())))?;
    Ok(glob.compile_matcher())
}

/// Patterns with values in them; each is tried with a plain name in place of each value.
fn check_globs(texts: &[Text]) -> Checked<&[Text]> {
    for text in texts {
        let mut plain = String::new();
        let mut rest = text.as_ref().as_str();
        while let Some((head, tail)) = rest.split_once("{{") {
            plain.push_str(head);
            plain.push('x');
            rest = tail.split_once("}}").map_or("", |(_, tail)| tail);
        }
        plain.push_str(rest);
        Glob::new(&plain)
            .map_err(|error| (text.span(), format!("the pattern is wrong: {}", error.kind())))?;
    }
    Ok(texts)
}

fn leave_out(rules: &[RawLeaveOut]) -> Checked<Vec<LeaveOut>> {
    let all = rules.iter().flat_map(|rule| rule.files.iter().map(move |files| (files, &rule.why)));
    all.map(|(files, why)| Ok(LeaveOut { glob: glob(files)?, why: why.clone() })).collect()
}

fn order(raw: &RawOrder) -> Checked<OrderGroups> {
    let one = |text: &Text| Ok((text.as_ref().clone(), glob(text)?));
    let groups = raw.groups.iter().map(|group| group.iter().map(one).collect()).collect::<Checked<_>>()?;
    Ok(OrderGroups { groups, by_needs: raw.by_needs })
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
        if let Some(says) = raw.comments.values().find(|says| says.as_ref() != "anywhere") {
            return Err((says.span(), format!("comments are \"anywhere\", not {:?}", says.as_ref())));
        }
        let stray_lines = raw.stray_lines.iter().map(|file| file.as_ref().clone()).collect();
        let comments_anywhere = raw.comments.keys().cloned().collect();
        Ok(Self { server, comments_anywhere, stray_lines, has_console: raw.console.is_some() })
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
        kinds_read.insert(PACK_KIND.into(), Kind::of_packs());
        kinds_read.insert(TWEAK_KIND.into(), Kind::of_tweaks());
        let platform = raw
            .platform
            .into_iter()
            .map(|(name, rule)| Ok((name, self.platform(rule)?)))
            .collect::<Checked<_>>()?;
        let terms = match raw.terms {
            Some(terms) => Some(Terms {
                place: self.place(&terms.at, terms.form.as_ref(), &self.server)?,
                agreed: terms.agreed,
            }),
            None => None,
        };
        Ok(Game {
            name: raw.name.into_inner(),
            title: raw.title,
            values,
            comments_anywhere: self.comments_anywhere.clone(),
            recognise_all: templates(check_globs(&raw.recognise.all)?)?,
            recognise_any: templates(check_globs(&raw.recognise.any)?)?,
            platform,
            provides,
            kinds: kinds_read,
            order: order(&raw.order)?,
            never_touch: templates(check_globs(&raw.never_touch.paths)?)?,
            leave_out: leave_out(&raw.leave_out)?,
            links: raw.link.iter().map(|rule| self.link(rule)).collect::<Checked<_>>()?,
            maps: raw.maps.map(|maps| self.maps(maps, &kinds)).transpose()?,
            pack: raw.pack.as_ref().map(|pack| self.pack(pack)).transpose()?,
            limits: raw.limit.iter().map(|limit| self.limit(limit)).collect::<Checked<_>>()?,
            join: raw.join.as_ref().map(|join| self.join(join, &kinds, raw.pack.is_some())).transpose()?,
            runtimes: raw.runtime.iter().map(|runtime| self.runtime(runtime)).collect::<Checked<_>>()?,
            copy: raw.copy.as_ref().map(|copy| self.copy(copy)).transpose()?,
            console: raw.console.as_ref().map(|console| self.console(console)).transpose()?,
            mirror: raw.mirror.as_ref().map(|mirror| self.mirror(mirror)).transpose()?,
            assets: raw.assets.as_ref().map(shared::assets).transpose()?,
            signatures: raw.signatures.as_ref().map(shared::signatures).transpose()?,
            tools: raw.tool.iter().map(|tool| shared::tool(tool, &self.server)).collect::<Checked<_>>()?,
            settings: raw
                .settings
                .into_iter()
                .map(|rule| self.settings(rule, &self.server))
                .collect::<Checked<_>>()?,
            references: raw.reference.into_iter().map(|rule| self.reference(rule)).collect::<Checked<_>>()?,
            agree: raw.agree.into_iter().map(|agree| self.agree(&agree)).collect::<Checked<_>>()?,
            terms,
            run: self.run(&raw.run)?,
            symptoms: raw.symptom.iter().map(|symptom| self.symptom(symptom)).collect::<Checked<_>>()?,
        })
    }

    fn link(&self, raw: &RawLink) -> Checked<LinkRule> {
        let pattern = pattern(&raw.pattern)?;
        let groups: Vec<&str> = pattern.groups().collect();
        let allowed = with(&self.server, &groups);
        let way = match (&raw.direct, &raw.queue) {
            (Some(direct), None) => LinkWay::Direct(template(direct, &allowed)?),
            (None, Some(queue)) => LinkWay::Queue(Box::new(kind::rule_of(self, queue, &allowed, None)?)),
            _ => {
                let why = "a link has either \"direct\", where its file is, or \"queue\", the entry by which the server fetches it";
                return Err((raw.pattern.span(), why.into()));
            }
        };
        let about =
            raw.about.as_ref().map(|text| template(text, &with(&self.server, &groups))).transpose()?;
        let needs = raw
            .needs
            .as_ref()
            .map(|text| Pointer::parse(text.as_ref()).map_err(|error| (text.span(), error.to_string())));
        Ok(LinkRule { pattern, way, about, needs: needs.transpose()? })
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
                let from = rule
                    .from
                    .as_ref()
                    .map(|from| self.place(from, rule.form.as_ref(), &self.server))
                    .transpose()?;
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

    /// Returns a file's format, as it is said or as the file's name tells it.
    fn format(&self, file: &Text, form: Option<&Text>) -> Checked<Format> {
        let format = match form {
            Some(form) => {
                let known = Format::ALL.into_iter().find(|format| format.name() == form.as_ref());
                known.ok_or_else(|| {
                    let names = Format::ALL.map(Format::name);
                    let near = suggest::did_you_mean(form.as_ref(), names);
                    let near = near.map_or_else(String::new, |near| format!("; {near}"));
                    (form.span(), format!("{:?} is not a format{near}", form.as_ref()))
                })
            }
            None => Format::of_name(file.as_ref()).ok_or_else(|| {
                let says =
                    format!("the name {:?} does not tell its format; say it with \"as\"", file.as_ref());
                (file.span(), says)
            }),
        }?;
        if self.stray_lines.contains(file.as_ref().as_str()) {
            let wrong = || {
                format!(
                    "only in properties can lines be skipped, and {:?} is {}",
                    file.as_ref(),
                    format.name()
                )
            };
            return format.with_stray_lines().ok_or_else(|| (file.span(), wrong()));
        }
        let anywhere = self.comments_anywhere.contains(file.as_ref());
        Ok(if anywhere { format.with_comments_anywhere() } else { format })
    }

    /// Reads `file#/pointer`.
    fn place(&self, text: &Text, form: Option<&Text>, allowed: &[String]) -> Checked<ConfigPlace> {
        let whole = text.as_ref();
        let Some((file, pointer)) = whole.split_once('#') else {
            return Err((text.span(), format!("{whole:?} must be written as file#/pointer")));
        };
        // Templates in a pointer are filled first, so only its beginning can be looked at here.
        if !pointer.is_empty() && !pointer.starts_with('/') {
            return Err((text.span(), format!("the pointer {pointer:?} must be empty or begin with '/'")));
        }
        let format = self.format(&Text::new(text.span(), file.to_owned()), form)?;
        let part = |part: &str| Template::new(part, allowed).map_err(|why| (text.span(), why));
        Ok(ConfigPlace { file: part(file)?, pointer: part(pointer)?, format })
    }

    fn platform(&self, raw: RawPlatform) -> Checked<PlatformRule> {
        match raw {
            RawPlatform { from: Some(from), inside: Some(inside), command: None, pattern: None } => {
                let archive = template(&inside, &self.server)?;
                Ok(PlatformRule::Inside { archive, place: self.place(&from, None, &self.server)? })
            }
            RawPlatform { from: Some(from), inside: None, command: None, pattern: None } => {
                Ok(PlatformRule::File(self.place(&from, None, &self.server)?))
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
}
