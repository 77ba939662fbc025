//! `[console]`: how commands reach a running server, and how it tells what has become of a change.

use super::{ConfigPlace, Pattern, RenderError, Scope, Template};

/// How to talk to a running server.
#[derive(Debug, Clone)]
pub struct ConsoleRule {
    /// The way there.
    pub channel: ConsoleChannel,
    /// Where the secret is that the server asks for.
    pub secret: Option<ConfigPlace>,
    /// The line that follows a wrong secret.
    pub refused: Option<Pattern>,
    /// The last line of an answer; without it an answer ends when nothing follows for a moment.
    pub end: Option<Pattern>,
    /// Commands that the server knows, for completion.
    pub commands: Vec<String>,
    /// The command that shows players a text (`text`).
    pub announce: Option<Template>,
    /// How to learn who plays.
    pub players: Option<PlayersRule>,
}

/// The way to a console.
#[derive(Debug, Clone)]
pub enum ConsoleChannel {
    /// Lines of text over TCP, the secret first; the port.
    Lines(Template),
    /// Packets over TCP: length, id, type, a text and two zeros, numbers in little-endian; the port.
    Packets(Template),
    /// Datagrams: four bytes 0xff, the secret, the command; the port.
    Datagrams(Template),
    /// The standard input of a server that a trial has left running.
    Input,
    /// A named pipe from which the server reads.
    Pipe(Template),
    /// A command that is run for each line (`line`).
    Command(Vec<Template>),
}

impl ConsoleChannel {
    /// Returns the port, where the channel has one.
    pub fn port(&self) -> Option<&Template> {
        match self {
            Self::Lines(port) | Self::Packets(port) | Self::Datagrams(port) => Some(port),
            Self::Input | Self::Pipe(_) | Self::Command(_) => None,
        }
    }

    /// Returns every template of it.
    pub fn templates(&self) -> Vec<&Template> {
        match self {
            Self::Lines(one) | Self::Packets(one) | Self::Datagrams(one) | Self::Pipe(one) => vec![one],
            Self::Command(words) => words.iter().collect(),
            Self::Input => Vec::new(),
        }
    }
}

/// How to learn from the console who plays.
#[derive(Debug, Clone)]
pub struct PlayersRule {
    /// The command.
    pub send: String,
    /// The pattern of a line that names a player, with the group `name`.
    pub each: Pattern,
}

/// What makes a running server take a change.
#[derive(Debug, Clone)]
pub struct LiveRule {
    /// The command.
    pub send: Template,
    /// The question whether it took the change. Without it the command's own answer tells.
    pub ask: Option<Template>,
    /// The pattern of the line that tells; its group `value`, if it has one, is what the server has now. It is filled first.
    pub answer: Option<Template>,
}

/// What a server tells about a change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Told {
    /// It has this value now.
    Value(String),
    /// It took the change.
    Taken,
    /// It does not say that it took the change.
    Untold,
    /// It cannot be asked.
    CannotTell,
}

/// The names that the templates of a [`LiveRule`] may use for a setting.
pub const LIVE_NAMES: &[&str] = &["key", "value"];

impl LiveRule {
    /// Returns what a server's answer tells.
    ///
    /// # Errors
    /// Where the pattern cannot be filled.
    pub fn told(&self, answer: &[String], scope: &Scope) -> Result<Told, RenderError> {
        let Some(template) = &self.answer else { return Ok(Told::CannotTell) };
        let mut literal = scope.clone();
        for text in literal.found.values_mut().chain(literal.content.values_mut()) {
            *text = regex::escape(text);
        }
        let Ok(pattern) = Pattern::new(&template.render(&literal)?) else { return Ok(Told::CannotTell) };
        let told = answer.iter().rev().find_map(|line| {
            let groups = pattern.captures(line)?;
            Some(groups.name("value").map_or(Told::Taken, |value| Told::Value(value.as_str().to_owned())))
        });
        Ok(told.unwrap_or(Told::Untold))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_tells_the_value_or_that_it_was_taken() {
        let template = |text: &str| Some(Template::new(text, &["key".into(), "value".into()]).unwrap());
        let mut scope = Scope::default();
        scope.found.insert("key".into(), "a.b".into());
        let rule = |answer| LiveRule { send: template("x").unwrap(), ask: None, answer };
        let said = ["axb = 1".to_owned(), "a.b = 2".to_owned(), "done".to_owned()];
        let told = |answer: Option<&str>| rule(answer.and_then(template)).told(&said, &scope).unwrap();
        assert_eq!(told(Some("^{{ key }} = (?<value>.*)$")), Told::Value("2".into()));
        assert_eq!(told(Some("^done$")), Told::Taken);
        assert_eq!(told(Some("^never$")), Told::Untold);
        assert_eq!(told(None), Told::CannotTell);
    }
}
