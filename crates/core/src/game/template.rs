//! Templates: `{{ values.town }}`, checked when a definition is loaded, rendered by minijinja when used.

use std::collections::BTreeMap;

use minijinja::{Environment, UndefinedBehavior, Value};

/// A text with places to fill.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    text: String,
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
    fn hint(&self) -> Option<String> {
        Some("yalotheca game check FILE tests a definition".into())
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
        Ok(Self { text: text.into() })
    }

    /// Returns the filled text.
    ///
    /// # Errors
    /// Where the scope lacks a name that the template uses.
    pub fn render(&self, scope: &Scope) -> Result<String, RenderError> {
        if !self.text.contains("{{") && !self.text.contains("{%") {
            return Ok(self.text.clone());
        }
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
