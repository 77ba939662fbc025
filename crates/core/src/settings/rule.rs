//! What one setting or one parameter takes.

use serde::Deserialize;

use crate::document::Value;

/// The sorts of settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SettingType {
    /// A number.
    Number,
    /// A whole number.
    Whole,
    /// True or false.
    Switch,
    /// One of several words.
    Choice,
    /// Any text.
    Text,
    /// Three numbers: x, y and z.
    Coordinates,
    /// A list.
    List,
}

/// What one setting or one parameter takes.
#[derive(Debug, Clone, PartialEq)]
pub struct SettingRule {
    /// Its sort.
    pub sort: SettingType,
    /// Its value where nobody says otherwise.
    pub default: Option<Value>,
    /// The least number.
    pub least: Option<f64>,
    /// The greatest number.
    pub most: Option<f64>,
    /// The words that it may be.
    pub choices: Vec<String>,
    /// What it is for.
    pub help: String,
    /// Whether it is a password: it is never shown, and never noted anywhere but in the server's own file.
    pub secret: bool,
}

/// A rule as it is written.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct RawRule {
    sort: Option<String>,
    default: Option<toml::Value>,
    least: Option<f64>,
    most: Option<f64>,
    #[serde(default)]
    choices: Vec<String>,
    #[serde(default)]
    help: String,
    #[serde(default)]
    secret: bool,
}

const SORTS: &[(&str, SettingType)] = &[
    ("number", SettingType::Number),
    ("whole", SettingType::Whole),
    ("switch", SettingType::Switch),
    ("choice", SettingType::Choice),
    ("text", SettingType::Text),
    ("coordinates", SettingType::Coordinates),
    ("list", SettingType::List),
];

impl SettingType {
    /// Returns the sort that a definition calls so.
    pub(crate) fn of_name(name: &str) -> Result<Self, String> {
        SORTS.iter().find(|(known, _)| *known == name).map(|(_, sort)| *sort).ok_or_else(|| {
            let near = crate::suggest::did_you_mean(name, SORTS.iter().map(|(known, _)| *known));
            let near = near.map_or_else(String::new, |near| format!("; {near}"));
            format!("{name:?} is not a sort{near}")
        })
    }
}

impl RawRule {
    /// Returns what it means.
    pub(crate) fn read(self) -> Result<SettingRule, String> {
        let Self { sort, default, least, most, choices, help, secret } = self;
        let sort = match &sort {
            Some(name) => SettingType::of_name(name)?,
            None if !choices.is_empty() => SettingType::Choice,
            None => match &default {
                Some(toml::Value::Integer(_)) => SettingType::Whole,
                Some(toml::Value::Float(_)) => SettingType::Number,
                Some(toml::Value::Boolean(_)) => SettingType::Switch,
                Some(toml::Value::Array(_)) => SettingType::List,
                _ => SettingType::Text,
            },
        };
        if sort == SettingType::Choice && choices.is_empty() {
            return Err("a choice needs its \"choices\"".into());
        }
        let mut rule = SettingRule { sort, default: None, least, most, choices, help, secret };
        if let Some(default) = default {
            let json = serde_json::to_value(default).map_err(|error| error.to_string())?;
            let checked =
                rule.check(&Value::from(json)).map_err(|why| format!("the default does not fit: {why}"));
            rule.default = Some(checked?);
        }
        Ok(rule)
    }
}

impl SettingRule {
    /// Returns a rule of a sort that bounds nothing.
    pub fn of(sort: SettingType) -> Self {
        Self {
            sort,
            default: None,
            least: None,
            most: None,
            choices: Vec::new(),
            help: String::new(),
            secret: false,
        }
    }

    /// Looks whether a value fits, and returns it in its sort: a text from a command line becomes a number.
    ///
    /// # Errors
    /// What stands against it, in words.
    pub fn check(&self, value: &Value) -> Result<Value, String> {
        let text = value.plain();
        match self.sort {
            SettingType::Number | SettingType::Whole => {
                let number: f64 = text.trim().parse().map_err(|_| self.takes())?;
                if !number.is_finite() || self.sort == SettingType::Whole && number.fract() != 0.0 {
                    return Err(self.takes());
                }
                if self.least.is_some_and(|least| number < least)
                    || self.most.is_some_and(|most| number > most)
                {
                    return Err(self.takes());
                }
                Ok(text.trim().parse::<i64>().map_or(Value::Real(number), Value::Whole))
            }
            SettingType::Switch => match text.as_str() {
                "true" | "yes" | "on" => Ok(Value::Flag(true)),
                "false" | "no" | "off" => Ok(Value::Flag(false)),
                _ => Err(self.takes()),
            },
            SettingType::Choice if self.choices.contains(&text) => Ok(Value::Text(text)),
            SettingType::Choice => {
                let near = crate::suggest::did_you_mean(&text, self.choices.iter().map(String::as_str));
                Err(near.map_or_else(|| self.takes(), |near| format!("{}; {near}", self.takes())))
            }
            SettingType::Text => Ok(Value::Text(text)),
            SettingType::Coordinates => {
                let numbers: Option<Vec<f64>> = match value {
                    Value::Compound(serde_json::Value::Array(items)) => {
                        items.iter().map(serde_json::Value::as_f64).collect()
                    }
                    _ => text
                        .trim_matches(['[', ']'])
                        .split(',')
                        .map(|part| part.trim().parse().ok())
                        .collect(),
                };
                match numbers.as_deref() {
                    Some([x, y, z]) if [x, y, z].iter().all(|number| number.is_finite()) => {
                        Ok(Value::Compound(serde_json::json!([x, y, z])))
                    }
                    _ => Err(self.takes()),
                }
            }
            SettingType::List => match (value, serde_json::from_str(&text)) {
                (Value::Compound(list @ serde_json::Value::Array(_)), _) => Ok(Value::Compound(list.clone())),
                (_, Ok(list @ serde_json::Value::Array(_))) => Ok(Value::Compound(list)),
                _ => Ok(Value::Compound(
                    text.split(',').map(|part| serde_json::Value::from(part.trim())).collect(),
                )),
            },
        }
    }

    /// Returns what it takes, in words: `a whole number from 1 to 96`.
    pub fn takes(&self) -> String {
        let number = |number: f64| Value::Real(number).plain();
        let bounds = match (self.least, self.most) {
            (Some(least), Some(most)) => format!(" from {} to {}", number(least), number(most)),
            (Some(least), None) => format!(" of at least {}", number(least)),
            (None, Some(most)) => format!(" of at most {}", number(most)),
            (None, None) => String::new(),
        };
        match self.sort {
            SettingType::Number => format!("it takes a number{bounds}"),
            SettingType::Whole => format!("it takes a whole number{bounds}"),
            SettingType::Switch => "it takes true or false".into(),
            SettingType::Choice => format!("it takes one of {}", self.choices.join(", ")),
            SettingType::Text => "it takes a text".into(),
            SettingType::Coordinates => "it takes three numbers: x, y, z".into(),
            SettingType::List => "it takes a list".into(),
        }
    }
}
