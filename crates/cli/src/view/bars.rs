//! One bar for each download that runs, and one for all of them. Only on a terminal.

use std::{
    collections::HashMap,
    sync::{Mutex, MutexGuard, PoisonError},
    time::Duration,
};

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use yalotheca_host::fetch::Watch;

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

fn style(template: &str) -> ProgressStyle {
    ProgressStyle::with_template(template)
        .unwrap_or_else(|_| ProgressStyle::default_bar())
        .progress_chars("=> ")
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
            let bar = ProgressBar::new(bytes);
            let template = if bytes > 0 {
                "  {msg:<32} [{bar:24}] {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left"
            } else {
                "  {msg:<32} {bytes}, {bytes_per_sec}"
            };
            bar.set_style(style(template));
            bar.set_message(told(&state));
            state.whole = Some(self.all.add(bar));
        }
    }

    fn begin(&self, name: &str, there: u64, total: Option<u64>) -> usize {
        let mut state = self.state();
        let number = state.next;
        state.next += 1;
        let bar = ProgressBar::new(total.unwrap_or(0));
        let template = if total.is_some() {
            "  {msg:<32} [{bar:24}] {bytes} of {total_bytes}"
        } else {
            "  {msg:<32} {bytes}, {bytes_per_sec}"
        };
        bar.set_style(style(template));
        let short: String = name.chars().take(32).collect();
        bar.set_message(short);
        bar.set_position(there);
        let bar = match &state.whole {
            Some(whole) => self.all.insert_before(whole, bar),
            None => self.all.add(bar),
        };
        bar.enable_steady_tick(Duration::from_millis(200));
        state.running.insert(number, bar);
        number
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
            bar.set_prefix("again");
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
