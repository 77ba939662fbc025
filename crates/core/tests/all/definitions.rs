//! Small definitions made for one question each.

use yalotheca_core::{
    document::{Document, Pointer, Value},
    game::{Game, Shape, describe, load},
    route::{MemoryBundle, recognise},
    toml_file::ReadTomlError,
};

use crate::Done;

const HEAD: &str = r#"
format = 1
name = "quay"
title = "Quay"
[values]
town = { default = "b" }
[recognise]
all = ["quay.conf"]
[run]
command = ["quay"]
stop = "TERM"
ready = "open"
"#;

fn with(more: &str) -> Result<Game, ReadTomlError> {
    load("quay.toml", &format!("{HEAD}{more}"))
}

fn bundle(files: &[(&str, &str)]) -> MemoryBundle {
    MemoryBundle {
        files: files.iter().map(|(path, text)| ((*path).into(), text.as_bytes().to_vec())).collect(),
    }
}

const KIND: &str = r#"
[kind.mod]
shape = "folder"
marker = "mod.x"
place = [{ into = "mods/{{ content.id }}/" }]
"#;

#[test]
fn each_mistake_is_refused_with_its_reason() {
    for (more, said) in [
        ("[kind.x]\nshape = \"folder\"\nmarker = \"m\"", "missing field `place`"),
        ("[kind.x]\nshape = \"folder\"\nmarker = 3\nplace = []", "expected a text or a list of texts"),
        (&KIND.replace("content.id", "content.name"), "content.name, which is not known here"),
        (&KIND.replace("{{ content.id }}", "{{ content.id }"), "syntax error"),
        (&format!("{KIND}members = [\"plugin\"]"), "there is no kind \"plugin\""),
        (&format!("{KIND}loaded = '{{{{ member.id }}}}'"), "member.id, which is not known here"),
        (&format!("{KIND}register = [{{ set = \"a.conf#/x\" }}]"), "either \"set\" and \"to\""),
        (&format!("{KIND}register = [{{ list = \"a.bin#\", item = \"x\" }}]"), "does not tell its format"),
        (
            &format!("{KIND}register = [{{ list = \"a.bin#\", as = \"line\", item = \"x\" }}]"),
            "\"line\" is not a format; did you mean lines?",
        ),
        (
            &format!("{KIND}register = [{{ list = \"a.txt#x\", item = \"x\" }}]"),
            "must be empty or begin with '/'",
        ),
        (&format!("{KIND}describe = [{{ file = \"a.bin\" }}]"), "does not tell its format"),
        (
            &format!("{KIND}describe = [{{ file = \"a.json\", id = \"id\" }}]"),
            "must be empty or begin with '/'",
        ),
        (
            &format!("{KIND}describe = [{{ file = \"a.json\", needs = {{ item = 'x' }} }}]"),
            "needs a group (?<id>…)",
        ),
        ("[platform]\nengine = { command = [\"x\"] }", "\"command\" and \"match\""),
        ("[platform]\nengine = { command = [\"x\"], match = 'x' }", "needs a group (?<version>…)"),
        ("[[agree]]\nsay = \"x\"\nfile = \"a\"", "an agreement has either"),
        (
            "[[symptom]]\nmatch = 'a(?<who>.*)'\nmeans = \"m\"\nsay = \"{{ what }}\"",
            "what, which is not known here",
        ),
        ("[terms]\nat = \"terms#/x\"\nagreed = \"yes\"", "does not tell its format"),
        ("[colours]\n", "unknown field `colours`"),
    ] {
        match with(more) {
            Ok(_) => panic!("accepted: {more}"),
            Err(error) => assert!(error.to_string().contains(said), "{said:?} is not in: {error}"),
        }
    }
}

#[test]
fn probes_and_times_are_checked() {
    for (from, to, said) in [
        ("ready = \"open\"", "ready = \"open\"\nprobe = { udp = \"1\" }", "\"udp\" and \"send\""),
        (
            "ready = \"open\"",
            "ready = \"open\"\nprobe = { udp = \"1\", send = \"4f4\" }",
            "two for each byte",
        ),
        ("ready = \"open\"", "ready = \"open\"\nprobe = { udp = \"1\", send = \"zz\" }", "hexadecimal"),
        ("ready = \"open\"", "ready = \"open\"\nquiet = \"3 days\"", "is not a time"),
        ("ready = \"open\"", "ready = \"open\"\nquiet = \"601s\"", "at most 600s"),
        ("stop = \"TERM\"", "stop = \"KILL\"", "is not a signal"),
        ("town = ", "Town = ", "needs a name of a-z"),
        ("{ default = \"b\" }", "{ default = [1] }", "a default is a text"),
        ("{ default = \"b\" }", "{ from = \"{{ values.town }}.conf#/x\" }", "by way of itself"),
    ] {
        let text = HEAD.replace(from, to);
        assert_ne!(text, HEAD, "{from}");
        match load("quay.toml", &text) {
            Ok(_) => panic!("accepted: {to}"),
            Err(error) => assert!(error.to_string().contains(said), "{said:?} is not in: {error}"),
        }
    }
}

fn described(rule: &str, file: &str, text: &str) -> Result<String, Box<dyn std::error::Error>> {
    let game = with(&format!("{KIND}describe = [{rule}]"))?;
    let mut files = bundle(&[(file, text)]);
    let told = describe(&game.kinds["mod"], &mut |path| Ok(files.files.get(path).cloned()));
    files.files.clear();
    Ok(match told {
        Ok(told) => {
            let needs =
                told.needs.iter().map(|(id, range)| format!("{id} {range}")).collect::<Vec<_>>().join(", ");
            let platform = told
                .platform
                .iter()
                .map(|(part, range)| format!("{part} {range}"))
                .collect::<Vec<_>>()
                .join(", ");
            let id = told.id.map_or_else(|| "-".into(), |id| id.to_string());
            let version = told.version.map_or_else(|| "-".into(), |version| version.to_string());
            format!("{id} {version} [{needs}] [{platform}]")
        }
        Err(error) => format!("error: {error}"),
    })
}

#[test]
fn descriptors_of_every_form_are_read() -> Done {
    for (rule, file, text, expected) in [
        (
            r#"{ file = "a.json", id = "/id", version = "/v", needs = "/needs" }"#,
            "a.json",
            r#"{"id": "x", "v": 3, "needs": {"b": ">=1", "c": "*"}}"#,
            "x 3 [b >=1, c *] []",
        ),
        (
            r#"{ file = "a.json", needs = "/needs" }"#,
            "a.json",
            r#"{"needs": ["b >=1", "c"]}"#,
            "- - [b >=1, c *] []",
        ),
        (r#"{ file = "a.json", needs = "/needs" }"#, "a.json", r#"{"needs": null}"#, "- - [] []"),
        (
            r#"{ file = "a.toml", id = "/mod/id", needs = "/needs" }"#,
            "a.toml",
            "needs = { b = \"2.*\" }\n[mod]\nid = \"x\"",
            "x - [b 2.*] []",
        ),
        (
            r#"{ file = "a.conf", id = "/name", needs = { at = "/depends", split = "," } }"#,
            "a.conf",
            "# c\nname = \"x\"\ndepends = b, c >=2 ,\n",
            "x - [b *, c >=2] []",
        ),
        (
            r#"{ file = "d.txt", as = "lines", needs = { item = '^(?<id>\w+)$' } }"#,
            "d.txt",
            "b\nc?\n\n# d\n",
            "- - [b *] []",
        ),
        (
            r#"{ file = "a.json", platform = { engine = { at = "/min", range = ">={{ it }}" } } }"#,
            "a.json",
            r#"{"min": 2.2}"#,
            "- - [] [engine >=2.2]",
        ),
        (
            r#"{ file = "a.json", platform = { engine = { at = "/f", map = { "4" = "2.*" } } } }"#,
            "a.json",
            r#"{"f": 4}"#,
            "- - [] [engine 2.*]",
        ),
        (r#"{ file = "a.json", id = "/id" }"#, "other.json", "{}", "- - [] []"),
    ] {
        assert_eq!(described(rule, file, text)?, expected, "{rule} on {text}");
    }
    Ok(())
}

#[test]
fn patterns_pick_texts_out_of_lines() -> Done {
    let rule = r#"{ file = "a.txt", as = "lines", id = { at = "", item = '^name: (?<id>\w+)$' },
                    version = { at = "", item = '^v(?<id>[\d.]+)$' }, title = { at = "", item = '^title: (?<id>.*)$' },
                    platform = { engine = { at = "", item = '^engine (?<range>.*)$' } } }"#;
    let told = described(rule, "a.txt", "hello\nv1.4\nname: tidebell\ntitle: Tide Bell\nengine >=2\n")?;
    assert_eq!(told, "tidebell 1.4 [] [engine >=2]");
    assert_eq!(described(rule, "a.txt", "hello\n")?, "- - [] []");
    Ok(())
}

#[test]
fn descriptors_that_cannot_be_right_are_errors() -> Done {
    for (rule, file, text, said) in [
        (r#"{ file = "a.json", id = "/id" }"#, "a.json", "{", "a.json: it is not JSON"),
        (r#"{ file = "a.toml", id = "/id" }"#, "a.toml", "id = ", "a.toml: it is not TOML"),
        (r#"{ file = "a.conf", id = "/id" }"#, "a.conf", "nonsense", "a.conf: line 1, column 1"),
        (r#"{ file = "a.json", id = "/id" }"#, "a.json", r#"{"id": "a b"}"#, "is not a content id"),
        (r#"{ file = "a.json", version = "/v" }"#, "a.json", r#"{"v": "soon"}"#, "is not a version"),
        (
            r#"{ file = "a.json", needs = "/n" }"#,
            "a.json",
            r#"{"n": {"b": ">>1"}}"#,
            "is not a version range",
        ),
        (r#"{ file = "a.json", needs = "/n" }"#, "a.json", r#"{"n": 3}"#, "must be a list"),
        (r#"{ file = "a.json", needs = "/n" }"#, "a.json", r#"{"n": [3]}"#, "must be a list of texts"),
        (
            r#"{ file = "a.json", platform = { engine = { at = "/f", map = { "4" = "2.*" } } } }"#,
            "a.json",
            r#"{"f": 9}"#,
            "is not one that is known",
        ),
    ] {
        let told = described(rule, file, text)?;
        assert!(told.starts_with("error: ") && told.contains(said), "{said:?} is not in {told}");
    }
    Ok(())
}

#[test]
fn a_content_without_a_name_is_named_by_its_folder() -> Done {
    let game = with(KIND)?;
    let name = |folder: &str| recognise(&game, Shape::Folder, folder, &mut bundle(&[("mod.x", "")]));
    assert_eq!(name("old oil (copy)")?.ok_or("a mod")?.id.as_str(), "old-oil--copy");
    assert!(name("ööö").is_err(), "nothing is left of that name");
    assert!(recognise(&game, Shape::Archive, "a", &mut bundle(&[("mod.x", "")]))?.is_none());
    assert!(recognise(&game, Shape::Folder, "a", &mut bundle(&[("deep/mod.x", "")]))?.is_none());
    Ok(())
}

#[test]
fn where_a_comment_may_begin_is_said_for_a_file() -> Done {
    let values = |more: &str| -> Result<Option<Value>, Box<dyn std::error::Error>> {
        let text = HEAD.replace("town = { default = \"b\" }", "site = { from = \"host.cfg#/site\" }");
        let game = load("quay.toml", &format!("{text}{more}"))?;
        let from =
            game.values.iter().find(|(name, _)| name == "site").and_then(|(_, rule)| rule.from.as_ref());
        let format = from.ok_or("no place")?.format;
        let document = Document::parse(format, "site http://quay.example/ // ours\n")?;
        Ok(document.get(&Pointer::parse("/site")?))
    };
    assert_eq!(values("")?, Some(Value::from("http://quay.example/")));
    assert_eq!(values("[comments]\n\"host.cfg\" = \"anywhere\"\n")?, Some(Value::from("http:")));
    let error = values("[comments]\n\"host.cfg\" = \"here\"\n").err().ok_or("it is loaded")?;
    assert!(error.to_string().contains("anywhere"), "{error}");
    Ok(())
}
