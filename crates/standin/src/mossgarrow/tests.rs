use super::*;

type Done = Result<(), Box<dyn std::error::Error>>;

#[test]
fn the_first_start_makes_files_and_ends() -> Done {
    let folder = tempfile::tempdir()?;
    assert_eq!(run(folder.path()), 1, "nothing is there");
    crate::moor::write_server(folder.path(), 0)?;
    assert_eq!(run(folder.path()), 0);
    assert!(folder.path().join("rules/answers.yml").is_file());
    assert_eq!(story(folder.path())?, "Basemarsh/open");
    assert!(!first_start(folder.path())?);
    Ok(())
}

#[test]
fn settings_are_rewritten_sorted_and_without_comments() -> Done {
    let folder = tempfile::tempdir()?;
    fs::write(
        folder.path().join("garrow.ini"),
        "# ours\n[Hosting]\nground = Reedfen; Basemarsh # both\ncarried =\n",
    )?;
    let mut settings = Settings::read(folder.path())?;
    assert_eq!(settings.list("ground"), ["Reedfen", "Basemarsh"]);
    settings.write(folder.path())?;
    let text = fs::read_to_string(folder.path().join("garrow.ini"))?;
    assert_eq!(text, "[Hosting]\ncarried = \nground = Reedfen; Basemarsh\n");
    Ok(())
}

#[test]
fn arguments_are_known_or_told() {
    let read = |text: &str| Arguments::parse(text);
    let good = read("--port 2410\n--carry Heronry --carry Reedfen").map(|all| all.all("carry"));
    assert_eq!(good, Ok(vec!["Heronry".to_owned(), "Reedfen".to_owned()]));
    assert!(read("--prot 1").is_err_and(|why| why.contains("--prot")));
    assert!(read("--port").is_err());
}
