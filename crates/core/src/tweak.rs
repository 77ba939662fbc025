//! Tweaks: contents that are configuration only. One file says which parameters there are and what is written where, in
//! two or more files, all or none.

use std::{collections::BTreeMap, ops::Range};

use serde::Deserialize;
use toml::Spanned;

use crate::{
    catalogue::{Recognised, Relations, Release},
    document::{Pointer, Value},
    game::{RawRegister, RegisterRule, Scope, TWEAK_KIND, register_rule},
    id::ContentId,
    settings::{RawRule, SettingRule, SettingType},
    toml_file::{ReadTomlError, TomlFile},
    version::{ReleaseVersion, VersionRange},
};

/// The fact of a release under which the text of its tweak is kept, so that the lock has all that is needed.
pub const TWEAK_FACT: &str = "tweak";

/// A tweak.
#[derive(Debug, Clone)]
pub struct Tweak {
    /// Its id.
    pub id: ContentId,
    /// Its version.
    pub version: ReleaseVersion,
    /// What people call it.
    pub title: String,
    /// What it is for.
    pub about: String,
    /// The games that it is for; nothing is every game.
    pub game: Option<String>,
    /// What it needs.
    pub needs: Relations,
    /// Its parameters, in the order of the file.
    pub parameters: Vec<(String, SettingRule)>,
    /// What it writes.
    pub fragments: Vec<RegisterRule>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    format: Spanned<u32>,
    id: ContentId,
    version: ReleaseVersion,
    #[serde(default)]
    title: String,
    #[serde(default)]
    about: String,
    game: Option<String>,
    #[serde(default)]
    needs: BTreeMap<ContentId, VersionRange>,
    #[serde(default)]
    parameters: toml::map::Map<String, toml::Value>,
    #[serde(default)]
    fragment: Vec<Spanned<RawRegister>>,
}

impl Tweak {
    /// Reads a tweak; `file` is its name for messages, `values` are the names of the server's values.
    ///
    /// # Errors
    /// Where it is not TOML of that shape, a parameter is wrong, or a fragment names what is not known.
    pub fn parse(file: &str, text: &str, values: &[String]) -> Result<Self, ReadTomlError> {
        let file = TomlFile { name: file, text, advice: "docs/tweaks.md tells what a tweak can say" };
        let fail = |span: Range<usize>, why: String| file.mistake(&span, why);
        let raw: Raw = file.read()?;
        if *raw.format.as_ref() != 1 {
            return Err(fail(
                raw.format.span(),
                format!("this program reads format 1, not {}", raw.format.as_ref()),
            ));
        }
        let at = |what: &str| text.find(what).map_or(0..0, |at| at..at);
        let mut parameters = Vec::new();
        for (name, value) in raw.parameters {
            let place = at(&format!("[parameters.{name}]"));
            if !name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_') {
                return Err(fail(place, format!("the parameter {name:?} needs a name of a-z, 0-9 and _")));
            }
            let rule: RawRule = value.try_into().map_err(|error: toml::de::Error| {
                fail(place.clone(), format!("the parameter {name}: {}", error.message()))
            })?;
            let rule =
                rule.read().map_err(|why| fail(place.clone(), format!("the parameter {name}: {why}")))?;
            parameters.push((name, rule));
        }
        let mut allowed: Vec<String> = values.iter().map(|name| format!("values.{name}")).collect();
        allowed.extend(["folder", "content.id", "release.version"].map(String::from));
        for (name, rule) in &parameters {
            allowed.push(format!("param.{name}"));
            if rule.sort == SettingType::Coordinates {
                allowed.extend(["x", "y", "z"].map(|part| format!("param.{name}.{part}")));
            }
        }
        if raw.fragment.is_empty() {
            return Err(fail(0..0, "a tweak has at least one [[fragment]]".into()));
        }
        let mut fragments = Vec::new();
        for fragment in raw.fragment {
            let whole = fragment.span();
            let rule = register_rule(fragment.as_ref(), &allowed, None)
                .map_err(|(span, why)| fail(if span == (0..0) { whole } else { span }, why))?;
            fragments.push(rule);
        }
        let title = if raw.title.is_empty() { raw.id.to_string() } else { raw.title };
        let Raw { id, version, about, game, needs, .. } = raw;
        Ok(Self {
            id,
            version,
            title,
            about,
            game,
            needs: needs.into_iter().collect(),
            parameters,
            fragments,
        })
    }

    /// Returns the tweak as a content. Its text goes along as a fact.
    pub fn content(&self, text: &str) -> Recognised {
        let mut release = Release::new(self.version.clone(), TWEAK_KIND);
        release.needs.clone_from(&self.needs);
        release.facts.insert(TWEAK_FACT.into(), text.into());
        Recognised { id: self.id.clone(), title: self.title.clone(), about: self.about.clone(), release }
    }

    /// Returns the parameters' values: those that were asked for, and else the defaults.
    ///
    /// # Errors
    /// Where one has neither, or one that was asked for does not fit.
    pub fn fill(&self, asked: &BTreeMap<Pointer, Value>) -> Result<BTreeMap<String, Value>, String> {
        let mut filled = BTreeMap::new();
        for (name, rule) in &self.parameters {
            let asked = asked.get(&Pointer::root().join(name));
            let value = match asked.or(rule.default.as_ref()) {
                Some(value) => {
                    rule.check(value).map_err(|why| format!("its parameter {name} is {value}: {why}"))?
                }
                None => return Err(format!("its parameter {name} has no value yet; {}", rule.takes())),
            };
            filled.insert(name.clone(), value);
        }
        Ok(filled)
    }

    /// Returns the scope for its fragments.
    pub fn scope(&self, content: Scope, filled: &BTreeMap<String, Value>) -> Scope {
        let mut scope = content;
        for (name, rule) in &self.parameters {
            let Some(value) = filled.get(name) else { continue };
            let json = value.to_json();
            let json = match (rule.sort, json.as_array().map(Vec::as_slice)) {
                (SettingType::Coordinates, Some([x, y, z])) => serde_json::json!({ "x": x, "y": y, "z": z }),
                _ => json,
            };
            scope.param.insert(name.clone(), json);
        }
        scope
    }
}
