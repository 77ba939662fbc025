//! The console of a running server.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_core::hint::Advice;
use yalotheca_host::{
    console::{self, ConsoleError, ConsoleSession},
    trust::Invocation,
};

use crate::{AppError, Server};

/// What a server answered.
#[derive(Debug, Serialize)]
pub struct ConsoleReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The commands and their answers, in the order in which they were sent.
    pub commands: Vec<AnsweredCommand>,
}

/// A command and its answer.
#[derive(Debug, Serialize)]
pub struct AnsweredCommand {
    /// The command.
    pub sent: String,
    /// The answer, line by line.
    pub answer: Vec<String>,
}

/// Opens a server's console.
///
/// # Errors
/// If the definition knows none, or it is off, or nothing answers.
pub fn connect(server: &Server) -> Result<ConsoleSession, AppError> {
    let rule = server.game.console.as_ref().ok_or_else(|| AppError::Usage {
        what: format!("the game definition {} does not know a console of this server", server.game.name),
        hint: Some(Advice::Say(
            "if the server has one, [console] in the game definition says how to reach it".into(),
        )),
    })?;
    let address = console::address(rule, &*server.tree, &server.survey.scope, &server.machine())?;
    let command = Invocation::of_console(rule, &server.survey.scope).map_err(ConsoleError::Render)?;
    server.require_trust_in(command, "to reach the server's console")?;
    Ok(ConsoleSession::open(&address)?)
}

/// Sends commands, and returns the answers.
///
/// # Errors
/// If the console cannot be used; the error names the command that had no answer.
pub fn send(server: &Server, lines: &[String]) -> Result<ConsoleReport, AppError> {
    let mut session = connect(server)?;
    let mut commands = Vec::new();
    for line in lines {
        let answer = session.send(line)?;
        commands.push(AnsweredCommand { sent: line.clone(), answer });
    }
    Ok(ConsoleReport { server: server.shown(), commands })
}

/// Returns the names of those who play, if the console can tell and answers.
pub fn players(server: &Server) -> Option<Vec<String>> {
    let rule = server.game.console.as_ref()?.players.as_ref()?;
    let answer = connect(server).ok()?.send(&rule.send).ok()?;
    let name = |line: &String| Some(rule.each.captures(line)?.name("name")?.as_str().to_owned());
    Some(answer.iter().filter_map(name).collect())
}

/// Shows players a text, if the definition says how.
///
/// # Errors
/// If it does not, or the console cannot be used.
pub fn announce(server: &Server, text: &str) -> Result<(), AppError> {
    let rule = server.game.console.as_ref().and_then(|console| console.announce.as_ref());
    let rule = rule.ok_or_else(|| AppError::Usage {
        what: format!("the definition of {} does not say how a text is shown to players", server.game.name),
        hint: Some(Advice::CorrectDefinition),
    })?;
    if text.chars().any(|c| c.is_control() || "\"\\;".contains(c)) {
        let what = "what is announced is one line without quotes, backslashes and semicolons".into();
        return Err(AppError::Usage { what, hint: None });
    }
    let mut scope = server.survey.scope.clone();
    scope.found.insert("text".into(), text.into());
    let line = rule.render(&scope).map_err(ConsoleError::Render)?;
    connect(server)?.send(&line).map(drop)?;
    Ok(())
}
