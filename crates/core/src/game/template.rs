//! Templates: `{{ values.town }}`, checked when a definition is loaded, rendered by minijinja when used.

use std::collections::BTreeMap;

use minijinja::{Environment, UndefinedBehavior, Value};

/// A text with places to fill.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    text: String,
    /// Its pieces, where it is nothing but text and names.
    pieces: Option<Vec<Piece>>,
}

/// A stretch of a template that is nothing but text and names.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Piece {
    Text(String),
    /// A name, and what of it, as in `values.town`.
    Name(String, Option<String>),
}

/// Cuts a template into its pieces, unless there is more in it than text and names. Most are like that, and there is no need
/// to have them read and run like programs for each of very many contents.
fn cut(text: &str) -> Option<Vec<Piece>> {
    // The reader takes one line end off the end.
    if text.contains("{%") || text.contains("{#") || text.ends_with('\n') {
        return None;
    }
    let mut pieces = Vec::new();
    let mut rest = text;
    while let Some((before, behind)) = rest.split_once("{{") {
        let (name, after) = behind.split_once("}}")?;
        let name = name.trim_matches(' ');
        let (name, part) = name.split_once('.').map_or((name, None), |(name, part)| (name, Some(part)));
        let is_name = |word: &str| {
            word.starts_with(|c: char| c.is_ascii_lowercase())
                && word.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
        };
        if !is_name(name) || !part.is_none_or(is_name) {
            return None;
        }
        pieces.push(Piece::Text(before.into()));
        pieces.push(Piece::Name(name.into(), part.map(str::to_owned)));
        rest = after;
    }
    pieces.push(Piece::Text(rest.into()));
    Some(pieces)
}

/// A template that could not be filled.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the template {template:?} cannot be filled: {why}")]
pub struct RenderError {
    /// The template's text.
    pub template: String,
    /// What minijinja says.
    pub why: String,
}

impl crate::hint::Hint for RenderError {
    fn hint(&self) -> Option<crate::hint::Advice> {
        Some(crate::hint::Advice::TestDefinition)
    }
}

/// What a template may name. Unset parts are empty; a template that names an empty part was refused at loading.
#[derive(Debug, Clone, Default)]
pub struct Scope {
    /// The server's folder as the server itself sees it.
    pub folder: String,
    /// The values of this server.
    pub values: BTreeMap<String, String>,
    /// The content at hand: `id`, `title`, `kind`.
    pub content: BTreeMap<String, String>,
    /// The release at hand: `version`.
    pub release: BTreeMap<String, String>,
    /// The member of a pack at hand: `id`, `folder`.
    pub member: BTreeMap<String, String>,
    /// What was discovered about the content.
    pub fact: BTreeMap<String, String>,
    /// The parameters of the tweak at hand.
    pub param: BTreeMap<String, serde_json::Value>,
    /// Names that a pattern found.
    pub found: BTreeMap<String, String>,
}

impl Scope {
    /// Returns the text that a name stands for, where it stands for one.
    fn text(&self, name: &str, part: Option<&str>) -> Option<&str> {
        // What a pattern found goes before everything else.
        let text = match (name, part) {
            _ if self.found.contains_key(name) => part.is_none().then(|| self.found.get(name))?,
            ("folder", None) => Some(&self.folder),
            ("values", Some(part)) => self.values.get(part),
            ("content", Some(part)) => self.content.get(part),
            ("release", Some(part)) => self.release.get(part),
            ("member", Some(part)) => self.member.get(part),
            ("fact", Some(part)) => self.fact.get(part),
            _ => None,
        };
        text.map(String::as_str)
    }

    fn to_value(&self) -> Value {
        let mut all: BTreeMap<String, Value> = BTreeMap::new();
        all.insert("folder".into(), Value::from(self.folder.clone()));
        for (name, map) in [
            ("values", &self.values),
            ("content", &self.content),
            ("release", &self.release),
            ("member", &self.member),
            ("fact", &self.fact),
        ] {
            all.insert(name.into(), Value::from(map.clone()));
        }
        let param: BTreeMap<String, Value> =
            self.param.iter().map(|(name, json)| (name.clone(), from_json(json))).collect();
        all.insert("param".into(), Value::from(param));
        for (name, text) in &self.found {
            all.insert(name.clone(), Value::from(text.clone()));
        }
        Value::from(all)
    }
}

fn from_json(json: &serde_json::Value) -> Value {
    match json {
        serde_json::Value::Null => Value::from(()),
        serde_json::Value::Bool(flag) => Value::from(*flag),
        serde_json::Value::Number(number) => match number.as_i64() {
            Some(whole) => Value::from(whole),
            None => Value::from(number.as_f64().unwrap_or(f64::NAN)),
        },
        serde_json::Value::String(text) => Value::from(text.as_str()),
        serde_json::Value::Array(items) => Value::from(items.iter().map(from_json).collect::<Vec<_>>()),
        serde_json::Value::Object(entries) => {
            let entries = entries.iter().map(|(name, json)| (name.clone(), from_json(json)));
            Value::from(entries.collect::<BTreeMap<_, _>>())
        }
    }
}

fn environment() -> Environment<'static> {
    let mut environment = Environment::empty();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    environment
}

impl Template {
    /// Returns the template, unless it is malformed or names something that `allowed` does not hold. A name in
    /// `allowed` that ends in `.*` allows everything below it.
    pub(crate) fn new(text: &str, allowed: &[String]) -> Result<Self, String> {
        let environment = environment();
        let parsed = environment.template_from_str(text).map_err(|error| error.to_string())?;
        let mut named: Vec<String> = parsed.undeclared_variables(true).into_iter().collect();
        named.sort();
        for name in named {
            let known = allowed.iter().any(|allowed| match allowed.strip_suffix(".*") {
                Some(stem) => name.strip_prefix(stem).is_some_and(|rest| rest.starts_with('.')),
                None => *allowed == name,
            });
            if !known {
                let near = crate::suggest::did_you_mean(&name, allowed.iter().map(String::as_str));
                let near = near.map_or_else(String::new, |near| format!("; {near}"));
                return Err(format!("the template names {name}, which is not known here{near}"));
            }
        }
        Ok(Self { text: text.into(), pieces: cut(text) })
    }

    /// Returns the filled text.
    ///
    /// # Errors
    /// Where the scope lacks a name that the template uses.
    pub fn render(&self, scope: &Scope) -> Result<String, RenderError> {
        if !self.text.contains("{{") && !self.text.contains("{%") {
            return Ok(self.text.clone());
        }
        match self.fill(scope) {
            Some(text) => Ok(text),
            None => self.run(scope),
        }
    }

    /// Fills a template that is nothing but text and names, where the scope has a text for each.
    fn fill(&self, scope: &Scope) -> Option<String> {
        let mut filled = String::new();
        for piece in self.pieces.as_ref()? {
            filled.push_str(match piece {
                Piece::Text(text) => text,
                Piece::Name(name, part) => scope.text(name, part.as_deref())?,
            });
        }
        Some(filled)
    }

    fn run(&self, scope: &Scope) -> Result<String, RenderError> {
        environment()
            .render_str(&self.text, scope.to_value())
            .map_err(|error| RenderError { template: self.text.clone(), why: error.to_string() })
    }

    /// Fills the name of a file into the name of another, where it stands as `{{ name }}`.
    pub(crate) fn fill_name(text: &str, name: &str) -> String {
        text.replace("{{ name }}", name)
    }

    /// Returns the text as written.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scope() -> Scope {
        let map = |pairs: &[(&str, &str)]| {
            pairs.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect()
        };
        Scope {
            folder: "/srv/harbour".into(),
            values: map(&[("town", "brinewick"), ("empty", "")]),
            content: map(&[("id", "tidebell"), ("title", "Tide & <bell> {{ x }}")]),
            found: map(&[("who", "gull"), ("release", "found")]),
            release: map(&[("version", "1.4")]),
            ..Scope::default()
        }
    }

    fn template(text: &str) -> Template {
        Template { text: text.into(), pieces: cut(text) }
    }

    #[test]
    fn what_is_only_names_is_filled_as_the_engine_fills_it() {
        let plain = [
            "towns/{{ values.town }}/packs/",
            "{{content.id}}",
            "{{ content.title }}{{ values.empty }} ",
            "a\n{{   folder }}\n b {{ who }} }} {",
            "{{ release }}",
        ];
        for text in plain {
            let template = template(text);
            let filled = template.fill(&scope());
            assert_eq!(filled.ok_or(()), template.run(&scope()).map_err(|_| ()), "{text:?}");
            assert!(template.fill(&scope()).is_some(), "{text:?}");
        }
    }

    #[test]
    fn all_else_is_left_to_the_engine() {
        let others = [
            "{{ content.id }}\n",
            "{{- content.id }}",
            "{{ content.id | upper }}",
            "{% if content %}{{ content.id }}{% endif %}",
            "{{ content['id'] }}",
            "{{ \"}}\" }}",
            "{# no #}{{ content.id }}",
            "{{ values.none }}",
            "{{ release.version }}",
            "{{ content }}",
            "{{ content.id.x }}",
            "{{ not content }}",
            "{{\tfolder }}",
            "{{ true }}",
        ];
        for text in others {
            let template = template(text);
            assert_eq!(template.fill(&scope()), None, "{text:?}");
        }
    }
}
