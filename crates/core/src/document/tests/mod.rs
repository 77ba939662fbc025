mod laws;
mod witness;

use proptest::prelude::*;

use super::*;

fn text_of(text: &str) -> Value {
    Value::Text(text.into())
}

fn p(text: &str) -> Pointer {
    Pointer::parse(text).unwrap()
}

fn doc(format: Format, text: &str) -> Document {
    Document::parse(format, text).unwrap()
}

fn after_set(format: Format, text: &str, at: &str, value: &Value) -> String {
    let mut document = doc(format, text);
    document.set(&p(at), value).unwrap();
    document.into_text()
}

#[test]
fn a_set_changes_the_bytes_it_must() {
    let text = |t: &str| Value::Text(t.into());
    for (format, before, at, value, after) in [
        (
            Format::Properties,
            "# a\nport = 7710 \nname=x\n",
            "/port",
            Value::Whole(7720),
            "# a\nport = 7720 \nname=x\n",
        ),
        (Format::Properties, "a=1\nb=2", "/c", text("3"), "a=1\nb=2\nc=3"),
        (Format::Properties, "a = 1\r\n", "/c", text("3"), "a = 1\r\nc = 3\r\n"),
        (Format::Properties, "", "/c", text("3"), "c = 3\n"),
        (Format::Properties, "a = 1\na = 2\n", "/a", text("3"), "a = 1\na = 3\n"),
        (
            Format::Json,
            "{\n  \"a\": 1, // why\n  \"b\": [1]\n}\n",
            "/a",
            Value::Flag(true),
            "{\n  \"a\": true, // why\n  \"b\": [1]\n}\n",
        ),
        (Format::Json, "{\n  \"a\": 1\n}", "/b", text("x\""), "{\n  \"a\": 1,\n  \"b\": \"x\\\"\"\n}"),
        (Format::Json, "{}", "/a/b/c", Value::Whole(1), "{\"a\": {\"b\": {\"c\": 1}}}"),
        (Format::Keywords, "a \"1\" // why\nb 2\n", "/a", text("x"), "a \"x\" // why\nb 2\n"),
        (Format::Keywords, "a 1 # why\nb 2", "/a", text("x y"), "a x y # why\nb 2"),
        (Format::Keywords, "a 1\n", "/a", text("http://x/"), "a \"http://x/\"\n"),
        (Format::Keywords, "a \"1\"\r\n", "/b", text("2"), "a \"1\"\r\nb \"2\"\r\n"),
        (Format::Keywords, "a 1\na 2\n", "/a", text("3"), "a 1\na 3\n"),
        (Format::Keywords, "a\n", "/a", text("3"), "a 3\n"),
        (Format::Keywords, "", "/a", text(""), "a \"\"\n"),
    ] {
        assert_eq!(after_set(format, before, at, &value), after);
    }
}

#[test]
fn list_items_come_and_go() {
    let mut lines = doc(Format::Lines, "# order\nharbour-core\n\n# the bells\ntidebell # loud\n");
    assert_eq!(lines.items(&p("")).unwrap(), ["harbour-core", "tidebell"].map(text_of));
    lines.insert(&p(""), 1, &text_of("gull-chat")).unwrap();
    assert_eq!(lines.text(), "# order\nharbour-core\ngull-chat\n\n# the bells\ntidebell # loud\n");
    lines.remove(&p(""), 2).unwrap();
    assert_eq!(lines.text(), "# order\nharbour-core\ngull-chat\n\n# the bells\n");

    let mut packs = doc(Format::Json, "[\n  \"a\",\n  \"b\"\n]\n");
    packs.insert(&p(""), 1, &text_of("x")).unwrap();
    packs.insert(&p(""), 3, &text_of("z")).unwrap();
    assert_eq!(packs.text(), "[\n  \"a\",\n  \"x\",\n  \"b\",\n  \"z\"\n]\n");
    packs.remove(&p(""), 0).unwrap();
    assert_eq!(packs.items(&p("")).unwrap(), ["x", "b", "z"].map(text_of));
    for _ in 0..3 {
        packs.remove(&p(""), 0).unwrap();
    }
    assert_eq!(packs.text(), "[]\n");
}

#[test]
fn a_list_in_a_place_that_is_not_there_is_made_and_unmade() {
    let mut document = doc(Format::Json, "{\"a\": 1}");
    let before = document.insert(&p("/load/list"), 0, &text_of("x")).unwrap();
    assert_eq!(document.text(), "{\"a\": 1, \"load\": {\"list\": [\"x\"]}}");
    document.put_back(&p("/load/list"), &before).unwrap();
    assert_eq!(document.text(), "{\"a\": 1}");
}

#[test]
fn broken_text_is_told_with_line_column_and_caret() {
    let error = Document::parse(Format::Json, "{\n  \"a\": 1\n  \"b\": 2\n}").unwrap_err();
    assert_eq!((error.line, error.column), (2, 9), "{error}");
    assert!(error.excerpt.ends_with("\n          ^"), "{}", error.excerpt);
    let error = Document::parse(Format::Properties, "a = 1\n  nonsense\n").unwrap_err();
    assert_eq!((error.line, error.column), (2, 3));
    assert!(Document::parse(Format::Json, "").is_err());
    let error = Document::parse(Format::Keywords, "a 1\nb \"open\n").unwrap_err();
    assert_eq!((error.line, error.column), (2, 3));
    assert!(Document::parse(Format::Keywords, "b \"x\" y\n").is_err());
    for (format, text, line, column, says) in [
        (Format::Yaml, "a: 1\nb: [1\n", 2, 6, "in a list in brackets, expected ',' or ']'"),
        (Format::Toml, "a = 1\nb = \n", 2, 4, "values must be quoted"),
        (Format::Xml, "<a>\n  <b>\n</a>\n", 3, 1, "expected 'b' tag, not 'a'"),
        (Format::Table, "a = {\n  x = y,\n}\n", 2, 7, "expected a value"),
        (Format::Blocks, "a {\n  b \"x\n}\n", 2, 5, "this quote is not closed on its line"),
        (Format::Blocks, "a {\n  b 1\n", 1, 3, "a \"}\" is missing"),
        (Format::Ini, "[a\nx = 1\n", 1, 3, "expected \"]\""),
        (Format::Arguments, "--a 'b\n", 1, 5, "this quote is not closed"),
        (Format::Pairs, "1 Basemarsh\n", 1, 1, "expected \"key: value\""),
    ] {
        let error = Document::parse(format, text).unwrap_err();
        assert_eq!((error.line, error.column), (line, column), "{text}: {error}");
        assert!(error.expected.contains(says), "{text}: {error}");
    }
}

#[test]
fn other_sorts_are_refused() {
    let mut document = doc(Format::Json, "{\"a\": 1}");
    assert!(matches!(document.set(&p("/a/b"), &Value::Whole(1)), Err(EditDocumentError::OtherSort { .. })));
    assert!(matches!(document.insert(&p("/a"), 0, &text_of("x")), Err(EditDocumentError::OtherSort { .. })));
    let mut properties = doc(Format::Properties, "");
    assert!(properties.set(&p("/a=b"), &Value::Whole(1)).is_err());
    assert!(properties.set(&p("/a"), &Value::Text("two\nlines".into())).is_err());
    assert_eq!(properties.text(), "");
}

#[test]
fn lists_in_one_text_keep_their_sort_of_gap() {
    let own = |texts: &[&str]| texts.iter().map(ToString::to_string).collect::<Vec<_>>();
    for (before, separator, parts, after) in [
        ("rotate a b\n", " ", &["a", "x", "b"] as &[&str], "rotate a x b\n"),
        ("rotate \"a;b\"\n", "; ", &["a", "b", "c"], "rotate \"a;b;c\"\n"),
        ("rotate \"a; b\"\n", ";", &["b"], "rotate \"b\"\n"),
        ("x 1\n", "; ", &["a", "b"], "x 1\nrotate a; b\n"),
    ] {
        let mut document = doc(Format::Keywords, before);
        let there = document.parts(&p("/rotate"), separator);
        assert_eq!(there.is_empty(), before == "x 1\n");
        let old = document.set_parts(&p("/rotate"), separator, &own(parts)).unwrap();
        assert_eq!(document.text(), after);
        assert_eq!(document.parts(&p("/rotate"), separator), own(parts));
        document.put_back(&p("/rotate"), &old).unwrap();
        assert_eq!(document.text(), before);
    }
}

fn keywords_text() -> impl Strategy<Value = String> {
    let line = prop_oneof![
        "[a-d] [a-z0-9]{1,5}",
        "[a-d] \"[a-z /]{0,5}\"",
        "  [e-h]\t[0-9]{1,3} // [a-z]{0,4}",
        "# [a-z ]{0,8}",
        "// [a-z ]{0,8}",
        "[i-k]",
        Just(String::new()),
    ];
    (proptest::collection::vec(line, 0..7), prop_oneof![Just("\n"), Just("\r\n")], any::<bool>()).prop_map(
        |(lines, ending, last)| {
            let mut text = lines.join(ending);
            if last && !text.is_empty() {
                text.push_str(ending);
            }
            text
        },
    )
}

proptest! {
    #[test]
    fn keywords_keep_the_laws(text in keywords_text(), key in "[a-z]", value in "[a-z/ ]{0,6}[a-z]") {
        let at = p(&format!("/{key}"));
        let before = doc(Format::Keywords, &text);
        prop_assert_eq!(before.text(), &text);
        let mut document = before.clone();
        let value = Value::Text(value);
        let old = document.set(&at, &value).unwrap();
        prop_assert_eq!(document.get(&at).map(|now| now.plain()), Some(value.plain()), "{}", document.text());
        let once = document.text().to_owned();
        document.set(&at, &value).unwrap();
        prop_assert_eq!(document.text(), &once, "set again changes nothing");
        document.put_back(&at, &old).unwrap();
        prop_assert_eq!(document.text(), &text, "put back is identity");
    }

    #[test]
    fn no_text_makes_the_keywords_panic(text in "[ab\"/# \\r\\n\\t\u{e9}]{0,24}") {
        if let Ok(mut document) = Document::parse(Format::Keywords, &text) {
            document.set(&p("/a"), &Value::Text("x".into())).unwrap();
            prop_assert_eq!(document.get(&p("/a")).map(|now| now.plain()), Some("x".to_owned()));
        }
    }
}

fn properties_text() -> impl Strategy<Value = String> {
    let line = prop_oneof![
        "[a-d]( = |=)[a-z0-9 ]{0,5}[a-z0-9]",
        "# [a-z =]{0,8}",
        Just(String::new()),
        "  [e-h] = [0-9]{1,3}",
    ];
    (proptest::collection::vec(line, 0..7), prop_oneof![Just("\n"), Just("\r\n")], any::<bool>()).prop_map(
        |(lines, ending, last)| {
            let mut text = lines.join(ending);
            if last && !text.is_empty() {
                text.push_str(ending);
            }
            text
        },
    )
}

fn json_text() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("1".to_string()),
        Just("true".into()),
        Just("\"x, [y] // z\"".into()),
        Just("null".into())
    ];
    let space = prop_oneof![Just(""), Just(" "), Just("\n  "), Just(" /* c */ "), Just("\r\n")];
    let value = leaf.prop_recursive(3, 12, 4, move |inner| {
        let space = space.clone();
        prop_oneof![
            (proptest::collection::vec(inner.clone(), 0..4), space.clone(), space.clone())
                .prop_map(|(items, a, b)| { format!("[{a}{}{b}]", items.join(&format!(",{a}"))) }),
            (proptest::collection::vec(("[a-c]", inner), 0..4), space.clone(), space).prop_map(
                |(items, a, b)| {
                    let items: Vec<_> =
                        items.iter().map(|(key, value)| format!("\"{key}\":{value}")).collect();
                    format!("{{{a}{}{b}}}", items.join(&format!(",{a}")))
                }
            ),
        ]
    });
    value.prop_map(|inner| format!("{{\"list\": [\"p\", \"q\"], \"o\": {inner}}}\n"))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn properties_laws(text in properties_text(), key in "[a-h]", value in "[a-z0-9]{1,4}") {
        let at = p(&format!("/{key}"));
        let value = Value::Text(value);
        let mut document = doc(Format::Properties, &text);
        prop_assert_eq!(document.text(), &text);
        let before = document.set(&at, &value).unwrap();
        prop_assert_eq!(document.get(&at), Some(value.clone()));
        let once = document.clone();
        document.set(&at, &value).unwrap();
        prop_assert_eq!(&document, &once);
        document.put_back(&at, &before).unwrap();
        prop_assert_eq!(document.text(), &text);
    }

    #[test]
    fn lines_put_in_together_are_lines_put_in_one_by_one(
        text in "([a-c]|# x|)(\r?\n([a-c]|# x|)){0,4}",
        items in proptest::collection::vec((0_usize..6, "[d-h]".prop_map(Value::Text)), 0..5),
    ) {
        let root = Pointer::root();
        let mut together = Document::parse(Format::Lines, &text).unwrap();
        together.insert_all(&root, &items).unwrap();
        let mut single = Document::parse(Format::Lines, &text).unwrap();
        for (index, item) in &items {
            single.insert(&root, *index, item).unwrap();
        }
        prop_assert_eq!(together.items(&root).unwrap(), single.items(&root).unwrap());
    }

    #[test]
    fn lines_laws(text in "([a-d]{0,2}( *#[a-z]*)?(\n|\r\n)){0,6}[a-d]{0,2}", index in 0_usize..8) {
        let mut document = doc(Format::Lines, &text);
        let items = document.items(&Pointer::root()).unwrap();
        let index = index.min(items.len());
        document.insert(&Pointer::root(), index, &text_of("new item")).unwrap();
        let mut expected = items;
        expected.insert(index, text_of("new item"));
        prop_assert_eq!(document.items(&Pointer::root()).unwrap(), expected);
        document.remove(&Pointer::root(), index).unwrap();
        prop_assert_eq!(document.text(), &text);
    }

    #[test]
    fn json_laws(text in json_text(), at in prop_oneof![Just("/o"), Just("/new"), Just("/n/e/w"), Just("/list/1"), Just("/o/a")], index in 0_usize..4) {
        let at = p(at);
        let mut document = doc(Format::Json, &text);
        let value = Value::Text("v \"q\"".into());
        if let Ok(before) = document.set(&at, &value) {
            prop_assert_eq!(document.get(&at), Some(value));
            prop_assert!(Document::parse(Format::Json, document.text()).is_ok());
            document.put_back(&at, &before).unwrap();
        }
        prop_assert_eq!(document.text(), &text);
        for list in [p("/list"), p("/o")] {
            let Ok(items) = document.items(&list) else { continue };
            let index = index.min(items.len());
            document.insert(&list, index, &text_of("new")).unwrap();
            prop_assert_eq!(document.items(&list).unwrap().len(), items.len() + 1);
            document.remove(&list, index).unwrap();
            prop_assert_eq!(document.text(), &text);
        }
    }

    #[test]
    fn nothing_panics(text in "\\PC{0,60}|[{}\\[\\]\",:a1 \n]{0,40}") {
        for format in [Format::Properties, Format::Lines, Format::Json] {
            let Ok(mut document) = Document::parse(format, &text) else { continue };
            prop_assert_eq!(document.text(), &text);
            let _ignored = document.set(&p("/a"), &Value::Whole(1));
            let _ignored = document.insert(&p(""), 1, &text_of("x"));
            let _ignored = document.remove(&p(""), 0);
        }
    }
}

/// Reads a text as other threads do, with little stack; returns what it says of it.
fn read_with_little_stack(format: Format, text: String) -> Result<(), String> {
    let read = move || match Document::parse(format, &text) {
        Ok(document) => {
            document.leaves();
            Ok(())
        }
        Err(error) => Err(error.to_string()),
    };
    std::thread::Builder::new().stack_size(2 << 20).spawn(read).unwrap().join().unwrap()
}

#[test]
fn no_depth_ends_the_program() {
    let nested = |open: &str, close: &str, levels: usize| open.repeat(levels) + "1 " + &close.repeat(levels);
    for (format, open, close, lead) in [
        (Format::Xml, "<a>", "</a>", ""),
        (Format::Yaml, "- ", "", ""),
        (Format::Yaml, "[", "]", ""),
        (Format::Yaml, "{a: ", "}", ""),
        (Format::Table, "{", "}", "t = "),
        (Format::Table, "{[", "", "t = "),
        (Format::Blocks, "a {\n", "}\n", ""),
        (Format::Json, "[", "]", ""),
        (Format::Toml, "[", "]", "a = "),
        (Format::Toml, "{a = ", "}", "a = "),
    ] {
        let text = |levels| format!("{lead}{}\n", nested(open, close, levels));
        let deep = read_with_little_stack(format, text(20_000));
        assert!(deep.is_err(), "{format:?} {open}: 20,000 levels were read");
        if open != "{[" {
            assert_eq!(read_with_little_stack(format, text(60)), Ok(()), "{format:?} {open}");
        }
        for levels in [150, 199, 200, 201] {
            read_with_little_stack(format, text(levels)).ok();
        }
    }
}

#[test]
fn odd_signs_are_read_or_refused() {
    for text in
        ["name value\u{c}\n", "name value\u{a0}x\n", "name\u{b}\n", "a \u{2003}{ b \u{85} }\n", "\u{c}"]
    {
        let document = Document::parse(Format::Blocks, text).unwrap();
        document.leaves();
    }
    let says = Document::parse(Format::Table, "t=é\n").unwrap_err().to_string();
    assert!(says.contains("expected a value"), "{says}");
    for text in ["t=", "t=-", "t=--x", "t=1--x\n", "t={é}", "t={[é]=1}", "é"] {
        Document::parse(Format::Table, text).ok();
    }
}

#[test]
fn each_of_a_doubled_name_has_its_number() {
    let document = Document::parse(Format::Properties, "a = 1\nb = 2\na = 3\na = 4\n").unwrap();
    let places: Vec<_> = document.leaves().into_iter().map(|(at, _)| at.to_string()).collect();
    assert_eq!(places, ["/a/0", "/b", "/a/1", "/a/2"]);
}

/// An edit in the notation of `cases/edits.txt`; returns nothing for what the test does not know.
type Undo = Box<dyn FnOnce(&mut Document)>;

/// Makes an edit as a table writes it; returns what takes it back.
fn edit(document: &mut Document, edit: &serde_json::Value) -> Option<Result<Undo, EditDocumentError>> {
    let at = p(edit["at"].as_str()?);
    let value = || Value::from(edit["value"]["v"].clone());
    let index = || usize::try_from(edit["index"].as_u64().unwrap()).unwrap();
    Some(match edit["c"].as_str()? {
        "set" => document
            .set(&at, &value())
            .map(|before| -> Undo { Box::new(move |document| document.put_back(&at, &before).unwrap()) }),
        "insert" => {
            let index = index();
            document.insert(&at, index, &value()).map(|before| -> Undo {
                Box::new(move |document| {
                    document.remove(&at, index).unwrap();
                    match before {
                        Before::Absent { made: 0 } | Before::Text(_) => {}
                        Before::Absent { made } => {
                            document.put_back(&at, &Before::Absent { made: made - 1 }).unwrap();
                        }
                        before @ Before::Instead { .. } => document.put_back(&at, &before).unwrap(),
                    }
                })
            })
        }
        "parts" => {
            let separator = edit["sep"].as_str()?;
            let mut parts = document.parts(&at, separator);
            parts.insert(index(), "new".into());
            document
                .set_parts(&at, separator, &parts)
                .map(|before| -> Undo { Box::new(move |document| document.put_back(&at, &before).unwrap()) })
        }
        "remove" => document.remove(&at, index()).map(|()| -> Undo { Box::new(|_| ()) }),
        _ => document.unset(&at).map(|()| -> Undo { Box::new(|_| ()) }),
    })
}

/// Every line of the table: a format, a text, an edit, and the text after it; or null, where the edit is refused.
#[test]
fn every_edit_of_the_table_is_exactly_that_edit_or_is_refused() {
    let cases = include_str!("../../../tests/cases/edits.txt");
    let mut seen = 0;
    for line in cases.lines().filter(|line| !line.is_empty() && !line.starts_with('#')) {
        let (name, rest) = line.split_once(' ').unwrap();
        let format = Format::ALL.into_iter().find(|format| format.name() == name).unwrap();
        let parts = serde_json::Deserializer::from_str(rest).into_iter::<serde_json::Value>();
        let parts: Vec<_> = parts.collect::<Result<_, _>>().unwrap();
        let [text, step, then] = &parts[..] else { panic!("{line}") };
        let mut document = Document::parse(format, text.as_str().unwrap()).unwrap();
        let unchanged = document.clone();
        match (edit(&mut document, step).unwrap(), then.as_str()) {
            (Ok(undo), Some(then)) => {
                assert_eq!(document.text(), then, "{line}");
                undo(&mut document);
                assert!(
                    document.text() == unchanged.text() || step["c"] == "remove" || step["c"] == "unset",
                    "{line}: {document:?}"
                );
            }
            (Err(_), None) => assert_eq!(document, unchanged, "{line}"),
            (done, _) => panic!("{line}: {:?}", done.map(|_| document)),
        }
        seen += 1;
    }
    assert!(seen > 40, "{seen}");
}

#[test]
fn yaml_texts_that_some_reader_takes_for_something_else_are_quoted() {
    for text in [
        "0x10",
        ".inf",
        "-.INF",
        ".nan",
        "12:30",
        "2001-01-01",
        "1_000",
        "0b11",
        "1e3",
        "2001-01-01T12:00:00Z",
        "<<",
        "=",
    ] {
        let mut document = Document::parse(Format::Yaml, "a: x\n").unwrap();
        document.set(&Pointer::parse("/a").unwrap(), &Value::Text(text.into())).unwrap();
        assert!(document.text().contains(['"', '\'']), "{text}: {}", document.text());
        assert_eq!(document.get(&Pointer::parse("/a").unwrap()), Some(Value::Text(text.into())));
    }
    let mut document = Document::parse(Format::Yaml, "a: x\n").unwrap();
    document.set(&Pointer::parse("/a").unwrap(), &Value::Text("3 kites".into())).unwrap();
    assert_eq!(document.text(), "a: 3 kites\n");
}
