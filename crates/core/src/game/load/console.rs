//! `[console]`, and `live` wherever it is.

use toml::Spanned;

use super::{Checked, Loader, pattern, pattern_with, template, with};
use crate::game::{
    ConsoleChannel, ConsoleRule, LiveRule, Pattern, PlayersRule,
    raw::{RawConsole, RawLive, Text},
};

impl Loader {
    pub(super) fn console(&self, raw: &Spanned<RawConsole>) -> Checked<ConsoleRule> {
        let span = raw.span();
        let raw = raw.as_ref();
        let server = |text: &Text| template(text, &self.server);
        let mut channels = Vec::new();
        channels.extend(raw.lines.as_ref().map(|port| Ok(ConsoleChannel::Lines(server(port)?))));
        channels.extend(raw.packets.as_ref().map(|port| Ok(ConsoleChannel::Packets(server(port)?))));
        channels.extend(raw.datagrams.as_ref().map(|port| Ok(ConsoleChannel::Datagrams(server(port)?))));
        channels.extend(raw.pipe.as_ref().map(|file| Ok(ConsoleChannel::Pipe(server(file)?))));
        channels.extend(raw.input.filter(|is| *is).map(|_| Ok(ConsoleChannel::Input)));
        channels.extend(raw.run.as_ref().map(|words| {
            let allowed = with(&self.server, &["line"]);
            let words = words.iter().map(|word| template(word, &allowed)).collect::<Checked<_>>()?;
            Ok(ConsoleChannel::Command(words))
        }));
        let (Some(channel), None) = (channels.pop(), channels.pop()) else {
            let why =
                "a console has one of \"lines\", \"packets\", \"datagrams\", \"input\", \"pipe\" and \"run\"";
            return Err((span, why.into()));
        };
        let players = raw.players.as_ref().map(|players| {
            Ok(PlayersRule { send: players.send.clone(), each: pattern_with(&players.each, "name")? })
        });
        Ok(ConsoleRule {
            channel: channel?,
            secret: raw.secret.as_ref().map(|at| self.place(at, None, &self.server)).transpose()?,
            refused: raw.refused.as_ref().map(pattern).transpose()?,
            end: raw.end.as_ref().map(pattern).transpose()?,
            commands: raw.commands.clone(),
            announce: raw
                .announce
                .as_ref()
                .map(|text| template(text, &with(&self.server, &["text"])))
                .transpose()?,
            players: players.transpose()?,
        })
    }

    /// Reads what makes a running server take a change; `names` are those that its templates may use besides.
    pub(super) fn live(&self, raw: &RawLive, allowed: &[String], names: &[&str]) -> Checked<LiveRule> {
        if !self.has_console {
            return Err((raw.send.span(), "what is sent needs a [console]".into()));
        }
        let allowed = with(allowed, names);
        let optional = |text: &Option<Text>| text.as_ref().map(|text| template(text, &allowed)).transpose();
        match (&raw.ask, &raw.answer) {
            (Some(ask), None) => return Err((ask.span(), "\"ask\" needs an \"answer\"".into())),
            (_, Some(answer)) => {
                let plain = answer.as_ref().replace("{{", "").replace("}}", "");
                Pattern::new(&plain)
                    .map_err(|why| (answer.span(), format!("the pattern is wrong: {why}")))?;
            }
            (None, None) => {}
        }
        Ok(LiveRule {
            send: template(&raw.send, &allowed)?,
            ask: optional(&raw.ask)?,
            answer: optional(&raw.answer)?,
        })
    }
}
