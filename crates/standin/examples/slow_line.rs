//! A slow line to a server of this machine: `cargo run -p yalotheca-standin --example slow_line -- PORT [MILLISECONDS]` prints the port
//! that it listens on, and what has passed whenever Enter is pressed.

use std::{
    io::{self, BufRead, Write},
    time::Duration,
};

use yalotheca_standin::relay::{Line, Relay};

fn main() -> io::Result<()> {
    let mut words = std::env::args().skip(1).map(|word| word.parse::<u16>());
    let mut number = || words.next().transpose().map_err(io::Error::other);
    let port = number()?.ok_or_else(|| io::Error::other("which port?"))?;
    let delay = Duration::from_millis(number()?.unwrap_or(25).into());
    let relay = Relay::start(([127, 0, 0, 1], port).into(), Line { delay, cuts: Vec::new() })?;
    let mut out = io::stdout();
    writeln!(out, "port {}", relay.port())?;
    for _ in io::stdin().lock().lines() {
        let (bytes, turns, connections) = (relay.bytes(), relay.turns(), relay.connections());
        writeln!(out, "{bytes} bytes, {turns} turns, {connections} connections")?;
    }
    Ok(())
}
