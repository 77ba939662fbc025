//! The guide works as it is typed.

use std::{fs, path::Path};

use crate::harness::{Done, World};

/// The commands of a page's `sh` blocks, each with the exit code that its comment names.
fn commands(page: &str) -> Result<Vec<(String, i32)>, Box<dyn std::error::Error>> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let text = fs::read_to_string(root.join(page))?;
    let mut found = Vec::new();
    let mut is_inside = false;
    for line in text.lines() {
        match line.trim_end() {
            "```sh" => is_inside = true,
            "```" => is_inside = false,
            line if is_inside => {
                let (command, comment) = line.split_once(" # ").unwrap_or((line, ""));
                let code = comment
                    .rsplit_once("exit code ")
                    .map_or(Ok(0), |(_, code)| code.trim().trim_end_matches(')').parse())?;
                found.push((command.trim().to_owned(), code));
            }
            _ => {}
        }
    }
    Ok(found)
}

/// Splits a line as a shell does.
fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut is_quoted = false;
    for c in line.chars() {
        match c {
            '\'' => is_quoted = !is_quoted,
            ' ' if !is_quoted => words.push(String::new()),
            c => words.last_mut().into_iter().for_each(|word| word.push(c)),
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

fn typed(page: &str, from: &str) -> Done {
    let world = World::empty()?;
    let mut folder = world.root().to_owned();
    let mut ran = 0;
    for (line, code) in commands(page)?.into_iter().skip_while(|(line, _)| !line.starts_with(from)) {
        let words = words(&line);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        match words.as_slice() {
            ["cd", to] => folder = folder.join(to),
            ["yalotheca", arguments @ ..] => {
                let answer = world.run_in(&folder, &[arguments, &["--yes"]].concat());
                assert_eq!(answer.code, code, "{line}\n{}{}", answer.out, answer.err);
                ran += 1;
            }
            other => return Err(format!("{page}: {other:?}").into()),
        }
    }
    assert!(ran > 5, "{page} has {ran} commands");
    Ok(())
}

#[test]
fn the_first_hour() -> Done {
    typed("docs/first-hour.md", "yalotheca demo")
}

#[test]
fn the_first_session() -> Done {
    typed("README.md", "yalotheca demo")
}

/// The definition that the tutorial builds, step by step, is good at the end.
#[test]
fn the_tutorial_s_definition() -> Done {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let text = fs::read_to_string(root.join("docs/describe-your-game.md"))?;
    let blocks: Vec<&str> =
        text.split("```toml\n").skip(1).filter_map(|rest| Some(rest.split_once("```")?.0)).collect();
    assert_eq!(blocks.len(), 6);
    let world = World::empty()?;
    // Each step is good by itself: the definition so far.
    for steps in 1..=blocks.len() {
        world.write("quay.toml", &blocks[..steps].concat())?;
        world.run(&["game", "check", "quay.toml"]).code(0).says(&["the definition quay is good"]);
    }
    world.write("games/quay.toml", &blocks.concat())?;
    world.write("quay.conf", "port = 7700\n")?;
    world
        .run(&["game", "check", "games/quay.toml", "--on", "."])
        .code(0)
        .says(&["The folder is recognised", "7700"]);
    Ok(())
}
