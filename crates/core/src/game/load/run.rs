//! How a server runs, what its log means, and what must agree.

use std::collections::BTreeMap;

use globset::Glob;
use toml::Spanned;

use super::{Checked, Loader, check_globs, pattern, template, with};
use crate::game::{
    Agree, Probe, Run, StopSignal, Symptom,
    raw::{RawAgree, RawProbe, RawRun, RawStop, RawSymptom, Text},
};

impl Loader {
    pub(super) fn agree(&self, raw: &RawAgree) -> Checked<Agree> {
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
                    named: self.place(named, None, &self.server)?,
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
                value: self.place(value, None, &self.server)?,
                is: self.place(is, None, &self.server)?,
                inside: inside.as_ref().map(|text| template(text, &self.server)).transpose()?,
                say: template(say, &with(&self.server, &["found", "expected"]))?,
            }),
            RawAgree {
                value: Some(value),
                is: None,
                inside: None,
                file: None,
                named: None,
                near: None,
                say,
            } => {
                let value = self.place(value, None, &self.server)?;
                Ok(Agree::Present { value, say: template(say, &self.server)? })
            }
            RawAgree { say, .. } => Err((
                say.span(),
                "an agreement has either \"file\" and \"named\", \"value\" and \"is\", or \"value\" alone"
                    .into(),
            )),
        }
    }

    pub(super) fn run(&self, raw: &RawRun) -> Checked<Run> {
        let templates =
            |texts: &[Text]| texts.iter().map(|text| template(text, &self.server)).collect::<Checked<_>>();
        let patterns = |texts: &[Text]| texts.iter().map(pattern).collect::<Checked<Vec<_>>>();
        let here = |text: &String| Text::new(raw.stop.span(), text.clone());
        let (stop, stop_line) = match raw.stop.as_ref() {
            RawStop::Signal(text) => (signal(&here(text))?, None),
            RawStop::Line(line) => {
                if !self.has_console {
                    return Err((raw.stop.span(), "the line is for a [console], and there is none".into()));
                }
                (signal(&here(&line.otherwise))?, Some(line.line.clone()))
            }
        };
        if let (None, Some(made)) = (&raw.first, raw.first_makes.first()) {
            return Err((made.span(), "\"first\" is missing: the log's line of the first start".into()));
        }
        let mut env = BTreeMap::new();
        for (name, text) in &raw.env {
            env.insert(name.clone(), template(text, &self.server)?);
        }
        Ok(Run {
            command: templates(&raw.command)?,
            env,
            stop,
            stop_line,
            log: raw.log.as_ref().map(|file| template(file, &self.server)).transpose()?,
            ready: pattern(&raw.ready)?,
            first: raw.first.as_ref().map(pattern).transpose()?,
            first_makes: templates(&raw.first_makes)?,
            quiet_ms: raw.quiet.as_ref().map_or(Ok(500), milliseconds)?,
            patience_ms: raw.patience.as_ref().map_or(Ok(60_000), milliseconds)?,
            grace_ms: raw.grace.as_ref().map_or(Ok(15_000), milliseconds)?,
            rereads: templates(check_globs(&raw.rereads)?)?,
            probe: raw.probe.as_ref().map(|probe| self.probe(probe)).transpose()?,
            fatal: patterns(&raw.fatal)?,
            trouble: patterns(&raw.trouble)?,
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

    pub(super) fn symptom(&self, raw: &RawSymptom) -> Checked<Symptom> {
        let pattern = pattern(&raw.pattern)?;
        let groups: Vec<&str> = pattern.groups().collect();
        let allowed = with(&self.server, &groups);
        Ok(Symptom {
            means: raw.means.clone(),
            say: template(&raw.say, &allowed)?,
            advice: raw.advice.as_ref().map(|text| template(text, &allowed)).transpose()?,
            pattern,
        })
    }
}

fn signal(text: &Text) -> Checked<StopSignal> {
    match text.as_ref().as_str() {
        "TERM" => Ok(StopSignal::Term),
        "INT" => Ok(StopSignal::Int),
        other => Err((text.span(), format!("{other:?} is not a signal: \"TERM\" or \"INT\""))),
    }
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

pub(super) fn bytes_of(text: &Text) -> Checked<Vec<u8>> {
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
