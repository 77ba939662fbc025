//! One bar for each download that runs, and one for all of them. Only on a terminal.

use std::{
    collections::HashMap,
    sync::{Mutex, MutexGuard, PoisonError},
};

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use yalotheca_host::fetch::Watch;

use super::{size, visible};

/// The bars.
#[derive(Debug)]
pub(crate) struct Bars {
    all: MultiProgress,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    running: HashMap<usize, ProgressBar>,
    next: usize,
    /// The bar for all, where there is more than one download.
    whole: Option<ProgressBar>,
    done: usize,
    files: usize,
}

const SIZED: &str = "  {msg:<24} [{wide_bar}] {here:>8} of {all:<8} {rate:>8}/s, {left}";
const UNSIZED: &str = "  {msg:<24} {here}";
const WHOLE: &str = SIZED;

/// A bar that draws nothing until it has its place among the others.
fn hidden() -> ProgressBar {
    ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden())
}

fn style(template: &str) -> ProgressStyle {
    let put = |to: &mut dyn std::fmt::Write, bytes: u64| {
        let _written = write!(to, "{}", size(bytes));
    };
    ProgressStyle::with_template(template)
        .unwrap_or_else(|_| ProgressStyle::default_bar())
        .with_key("here", move |state: &ProgressState, to: &mut dyn std::fmt::Write| put(to, state.pos()))
        .with_key("rate", move |state: &ProgressState, to: &mut dyn std::fmt::Write| {
            #[expect(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "a rate is no exact number"
            )]
            put(to, state.per_sec() as u64);
        })
        .with_key("left", |state: &ProgressState, to: &mut dyn std::fmt::Write| {
            let _written = write!(to, "{:<12}", left(state.eta().as_secs()));
        })
        .with_key("all", move |state: &ProgressState, to: &mut dyn std::fmt::Write| {
            put(to, state.len().unwrap_or(0));
        })
        .progress_chars("=> ")
}

/// Returns how long it is going to take, in words of at most twelve letters.
fn left(seconds: u64) -> String {
    match seconds {
        0 => "almost done".into(),
        1..100 => format!("{seconds} s left"),
        100..6_000 => format!("{} min left", seconds.div_ceil(60)),
        _ => format!("{} h left", seconds / 3_600),
    }
}

impl Bars {
    pub(crate) fn new() -> Self {
        let all = MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(12));
        Self { all, state: Mutex::default() }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn told(state: &State) -> String {
    format!("{} of {} files", state.done, state.files)
}

impl Watch for Bars {
    fn expect(&self, files: usize, bytes: u64) {
        let mut state = self.state();
        state.files = files;
        state.done = 0;
        if files > 1 {
            let bar = self.all.add(hidden());
            bar.set_style(style(if bytes > 0 { WHOLE } else { UNSIZED }));
            bar.set_length(bytes);
            bar.set_message(told(&state));
            state.whole = Some(bar);
        }
    }

    fn begin(&self, name: &str, there: u64, total: Option<u64>) -> usize {
        let mut state = self.state();
        let number = state.next;
        state.next += 1;
        let bar = match &state.whole {
            Some(whole) => self.all.insert_before(whole, hidden()),
            None => self.all.add(hidden()),
        };
        bar.set_style(style(if total.is_some() { SIZED } else { UNSIZED }));
        bar.set_length(total.unwrap_or(0));
        bar.set_message(visible(name).chars().take(24).collect::<String>());
        bar.set_position(there);
        state.running.insert(number, bar);
        number
    }

    fn renamed(&self, download: usize, name: &str) {
        if let Some(bar) = self.state().running.get(&download) {
            bar.set_message(visible(name).chars().take(24).collect::<String>());
        }
    }

    fn sized(&self, download: usize, there: u64, total: u64) {
        let state = self.state();
        let Some(bar) = state.running.get(&download) else { return };
        if let Some(whole) = &state.whole {
            // What is known of this one already is in the sum.
            let more = total.saturating_sub(bar.length().unwrap_or(0));
            whole.inc_length(more);
            whole.set_position(whole.position() + there - bar.position().min(there));
            whole.set_style(style(WHOLE));
        }
        bar.set_style(style(SIZED));
        bar.set_length(total);
        bar.set_position(there);
    }

    fn came(&self, download: usize, bytes: u64) {
        let state = self.state();
        if let Some(bar) = state.running.get(&download) {
            bar.inc(bytes);
        }
        if let Some(whole) = &state.whole {
            whole.inc(bytes);
        }
    }

    fn again(&self, download: usize, why: &str) {
        if let Some(bar) = self.state().running.get(&download) {
            bar.println(format!("  {why}; trying again"));
        }
    }

    fn end(&self, download: usize) {
        let mut state = self.state();
        state.done += 1;
        if let Some(bar) = state.running.remove(&download) {
            bar.finish_and_clear();
        }
        if let Some(whole) = &state.whole {
            whole.set_message(told(&state));
            whole.tick();
        }
    }

    fn all_done(&self) {
        let mut state = self.state();
        for (_, bar) in state.running.drain() {
            bar.finish_and_clear();
        }
        if let Some(whole) = state.whole.take() {
            whole.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::left;

    #[test]
    fn time_left_is_said_in_few_letters() {
        let said = [0, 7, 99, 100, 5_999, 7_200, 360_000].map(left);
        assert_eq!(
            said,
            ["almost done", "7 s left", "99 s left", "2 min left", "100 min left", "2 h left", "100 h left"]
        );
        assert!(said.iter().all(|text| text.len() <= 12));
    }
}
