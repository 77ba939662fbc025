//! A line that says what is waited for, where that takes longer than a moment. Only on a terminal.

use std::{
    sync::mpsc::{RecvTimeoutError, Sender, channel},
    thread,
    time::Duration,
};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use super::visible;

/// Is there as long as something is waited for.
#[derive(Debug)]
pub(crate) struct Waiting {
    bar: ProgressBar,
    /// Goes with it, and so tells the thread that would draw it later.
    _over: Option<Sender<()>>,
}

/// What is over sooner is not worth a line.
const MOMENT: Duration = Duration::from_millis(400);

impl Waiting {
    /// Draws a line that moves and says how long it has been there, once a moment has passed.
    pub(crate) fn draw(what: &str) -> Self {
        let bar = ProgressBar::hidden();
        let style = ProgressStyle::with_template("{spinner} {prefix} {elapsed}  {wide_msg:.dim}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()).tick_chars("-\\|/ "));
        bar.set_prefix(what.to_owned());
        let (over, waits) = channel::<()>();
        let later = bar.clone();
        thread::spawn(move || {
            if waits.recv_timeout(MOMENT) == Err(RecvTimeoutError::Timeout) {
                later.set_draw_target(ProgressDrawTarget::stderr_with_hz(8));
                later.enable_steady_tick(Duration::from_millis(150));
            }
        });
        Self { bar, _over: Some(over) }
    }

    /// Draws nothing.
    pub(crate) fn silent() -> Self {
        Self { bar: ProgressBar::hidden(), _over: None }
    }

    /// Says what was heard last.
    pub(crate) fn heard(&self, text: &str) {
        self.bar.set_message(visible(text).into_owned());
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
