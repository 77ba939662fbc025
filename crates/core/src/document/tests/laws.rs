//! The laws of every format, on files made at random: parse and print is identity; get after set; set of the same
//! changes nothing; put in and taken out, a file is the same byte for byte; edits at different places commute; nothing
//! panics.
#![expect(clippy::format_push_string, reason = "texts are put together in many small steps")]

use proptest::prelude::*;

use super::witness::{self, edits::Verdict};
use crate::document::*;

/// What a random file says, before it is written in a format's random manner.
#[derive(Debug, Clone)]
enum Tree {
    Leaf(u8),
    List(Vec<Self>),
    Group(Vec<(String, Self)>),
}

fn tree(depth: u32) -> impl Strategy<Value = Tree> {
    any::<u8>().prop_map(Tree::Leaf).prop_recursive(depth, 14, 4, |inner| {
        prop_oneof![proptest::collection::vec(inner.clone(), 0..4).prop_map(Tree::List), group(inner),]
    })
}

fn group(inner: impl Strategy<Value = Tree>) -> impl Strategy<Value = Tree> {
    proptest::collection::vec(("[a-dfg][p-z]{0,2}", inner), 0..4).prop_map(|mut entries| {
        entries.sort_by(|a, b| a.0.cmp(&b.0));
        entries.dedup_by(|a, b| a.0 == b.0);
        Tree::Group(entries)
    })
}

/// Decides one random matter after the other.
struct Dice(u64);

impl Dice {
    fn of(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }

    fn pick<'t>(&mut self, texts: &[&'t str]) -> &'t str {
        let at = usize::try_from(self.of(texts.len() as u64)).unwrap();
        texts[at]
    }

    fn comment(&mut self, sign: &str) -> String {
        if self.of(5) > 0 { String::new() } else { format!("{sign} a - b: [c] \"d\n") }
    }
}

fn json(tree: &Tree, dice: &mut Dice) -> String {
    let gap = dice.pick(&["", " ", "\n  ", " /* c, */ ", "\t"]);
    match tree {
        Tree::Leaf(n) => {
            ["1", "-2.5", "true", "\"x, [y] // \\\" z\"", "null", "\"é\""][usize::from(*n) % 6].into()
        }
        Tree::List(items) => {
            let items: Vec<String> = items.iter().map(|item| json(item, dice)).collect();
            format!("[{gap}{}{gap}]", items.join(&format!(",{gap}")))
        }
        Tree::Group(entries) => {
            let entries: Vec<String> =
                entries.iter().map(|(key, value)| format!("\"{key}\":{gap}{}", json(value, dice))).collect();
            let comma = if entries.is_empty() { "" } else { dice.pick(&["", ","]) };
            format!("{{{gap}{}{comma}{gap}}}", entries.join(&format!(",{gap}")))
        }
    }
}

fn table(tree: &Tree, dice: &mut Dice) -> String {
    let gap = dice.pick(&["", " ", "\n  ", " --[[ c, ]] ", " -- c }\n"]);
    match tree {
        Tree::Leaf(n) => {
            ["1", "-2.5", "true", "\"x, {y} -- \\\" z\"", "'it'", "[[long]]"][usize::from(*n) % 6].into()
        }
        Tree::List(items) => {
            let items: Vec<String> = items.iter().map(|item| table(item, dice)).collect();
            format!("{{{gap}{}{gap}}}", items.join(&format!("{}{gap}", dice.pick(&[",", ";"]))))
        }
        Tree::Group(entries) => {
            let mut one = |(key, value): &(String, Tree)| {
                let key = if dice.of(2) == 0 { key.clone() } else { format!("[\"{key}\"]") };
                format!("{key} = {}", table(value, dice))
            };
            let entries: Vec<String> = entries.iter().map(&mut one).collect();
            let comma = if entries.is_empty() { "" } else { dice.pick(&["", ",", ";"]) };
            format!("{{{gap}{}{comma}{gap}}}", entries.join(&format!(",{gap}")))
        }
    }
}

fn tables(tree: &Tree, dice: &mut Dice) -> String {
    let Tree::Group(entries) = tree else { return dice.comment("--") };
    let mut text = String::new();
    for (key, value) in entries {
        text += &dice.comment("--");
        text += &format!("{}{key} = {}\n", dice.pick(&["", "", "local "]), table(value, dice));
    }
    text
}

fn yaml_flow(tree: &Tree, dice: &mut Dice) -> String {
    match tree {
        Tree::Leaf(n) => yaml_leaf(*n),
        Tree::List(items) => {
            format!(
                "[{}]",
                items
                    .iter()
                    .map(|item| yaml_flow(item, dice))
                    .collect::<Vec<_>>()
                    .join(dice.pick(&[", ", ","]))
            )
        }
        Tree::Group(entries) => {
            let one = |(key, value): &(String, Tree)| format!("{key}: {}", yaml_flow(value, dice));
            format!("{{{}}}", entries.iter().map(one).collect::<Vec<_>>().join(", "))
        }
    }
}

fn yaml_leaf(n: u8) -> String {
    ["1", "-2.5", "true", "\"x: [y] # \\\" z\"", "'it''s'", "plain words", "é -#x", "~"][usize::from(n) % 8]
        .into()
}

/// Writes a value behind a key or a dash, the gap before it and the end of the line included.
fn yaml(tree: &Tree, lead: &str, dice: &mut Dice) -> String {
    let end = if dice.of(6) == 0 { " # why: - x\n" } else { "\n" };
    match tree {
        Tree::Leaf(n) if n % 11 == 3 => format!(" |\n{lead}  some text\n\n{lead}  - more # x\n"),
        Tree::Leaf(n) if n % 11 == 7 => end.to_owned(),
        Tree::Leaf(n) => format!(" {}{end}", yaml_leaf(*n)),
        tree @ (Tree::List(_) | Tree::Group(_)) if dice.of(4) == 0 => {
            format!(" {}{end}", yaml_flow(tree, dice))
        }
        Tree::List(items) if items.is_empty() => format!(" []{end}"),
        Tree::Group(entries) if entries.is_empty() => format!(" {{}}{end}"),
        tree => format!("{end}{}", yaml_block(tree, &format!("{lead}{}", dice.pick(&["  ", "    "])), dice)),
    }
}

fn yaml_block(tree: &Tree, lead: &str, dice: &mut Dice) -> String {
    let mut text = String::new();
    match tree {
        Tree::Leaf(_) => {}
        Tree::List(items) => {
            for item in items {
                text += &dice.comment(&format!("{lead}#"));
                let inner = format!("{lead}  ");
                match item {
                    Tree::Group(entries) if !entries.is_empty() && dice.of(2) == 0 => {
                        text += &format!("{lead}- {}", yaml_block(item, &inner, &mut Dice(0)).trim_start());
                    }
                    item => text += &format!("{lead}-{}", yaml(item, lead, dice)),
                }
            }
        }
        Tree::Group(entries) => {
            for (key, value) in entries {
                text += &dice.comment(&format!("{lead}#"));
                text += &format!("{lead}{key}:{}", yaml(value, lead, dice));
            }
        }
    }
    text
}

fn toml_value(tree: &Tree, dice: &mut Dice) -> String {
    match tree {
        Tree::Leaf(n) => {
            ["1", "-2.5", "true", "\"x, [y] # \\\" z\"", "'it'", "\"\"\"a\nb\"\"\"", "1979-05-27"]
                [usize::from(*n) % 7]
                .into()
        }
        Tree::List(items) => {
            let gap = dice.pick(&["", " ", "\n  "]);
            let items: Vec<String> = items.iter().map(|item| toml_value(item, dice)).collect();
            format!("[{gap}{}{gap}]", items.join(&format!(",{gap}")))
        }
        Tree::Group(entries) => {
            let one = |(key, value): &(String, Tree)| format!("{key} = {}", toml_value(value, dice));
            format!("{{ {} }}", entries.iter().map(one).collect::<Vec<_>>().join(", "))
        }
    }
}

fn toml_text(tree: &Tree, dice: &mut Dice) -> String {
    let Tree::Group(entries) = tree else { return dice.comment("#") };
    let (mut top, mut below) = (String::new(), String::new());
    for (key, value) in entries {
        match value {
            Tree::Group(inner) if dice.of(3) > 0 => {
                below += &format!(
                    "{}{}[{key}]{}\n",
                    dice.pick(&["", "\n"]),
                    dice.comment("#"),
                    dice.pick(&["", " # s"])
                );
                for (key, value) in inner {
                    below += &format!("{}{key} = {}\n", dice.pick(&["", "", "  "]), toml_value(value, dice));
                }
            }
            value => {
                top += &format!(
                    "{}{key}{}{}{}\n",
                    dice.comment("#"),
                    dice.pick(&[" = ", "="]),
                    toml_value(value, dice),
                    dice.pick(&["", " # c"])
                );
            }
        }
    }
    top + &below
}

fn xml(name: &str, tree: &Tree, lead: &str, dice: &mut Dice) -> String {
    match tree {
        Tree::Leaf(n) if n % 5 == 0 => format!("{lead}<{name}/>\n"),
        Tree::Leaf(n) if n % 5 == 1 => format!("{lead}<{name} at=\"{n}\"  q='&lt;' />\n"),
        Tree::Leaf(n) => format!("{lead}<{name}>v{n} &amp; x</{name}>\n"),
        Tree::List(items) => items.iter().map(|item| xml(name, item, lead, dice)).collect(),
        Tree::Group(entries) => {
            let inner: String =
                entries.iter().map(|(key, value)| xml(key, value, &format!("{lead}\t"), dice)).collect();
            format!("{lead}<{name} n=\"1\">{}\n{inner}{lead}</{name}>\n", dice.pick(&["", "<!-- <a> -->"]))
        }
    }
}

fn ini(tree: &Tree, dice: &mut Dice) -> String {
    let Tree::Group(entries) = tree else { return dice.comment(";") };
    let (mut top, mut below) = (String::new(), String::new());
    for (key, value) in entries {
        let one = |key: &str, n: u8, dice: &mut Dice| {
            let value = ["1", "", "a; b", "\"x # y\"", "#fff", "p q # why", "x=y"][usize::from(n) % 7];
            let sign = dice.pick(&[" = ", "=", " ="]);
            format!("{}{key}{sign}{value}\n", dice.comment(";"))
        };
        match value {
            Tree::Leaf(n) => top += &one(key, *n, dice),
            Tree::Group(inner) => {
                below += &format!("{}[{key}]\n", dice.pick(&["", "\n", "\n\n"]));
                for (key, value) in inner {
                    below += &match value {
                        Tree::Leaf(n) => one(key, *n, dice),
                        Tree::List(_) => format!("{key}\n"),
                        Tree::Group(_) => format!("{key} = 1\n{key} = 2\n"),
                    };
                }
            }
            Tree::List(_) => below += &format!("[{key}]\n# none\n"),
        }
    }
    top + &below
}

fn blocks(tree: &Tree, lead: &str, dice: &mut Dice) -> String {
    let Tree::Group(entries) = tree else { return String::new() };
    let mut text = String::new();
    for (key, value) in entries {
        text += &dice.comment(&format!("{lead}#"));
        text += &match value {
            Tree::Leaf(n) => {
                let value = ["1", "\"x # { y\"", "two words", "\"\"", "on"][usize::from(*n) % 5];
                format!(
                    "{lead}{key}{}{value}{}\n",
                    dice.pick(&[" ", "   "]),
                    dice.pick(&["", " # why", " // why"])
                )
            }
            Tree::List(_) => format!("{lead}{key} {{ a \"b\" }}\n"),
            Tree::Group(inner) if inner.is_empty() => {
                format!("{lead}{key} {}\n", dice.pick(&["{}", "{ }", "{\n}"]))
            }
            tree @ Tree::Group(_) => {
                let inner = format!("{lead}{}", dice.pick(&["  ", "    ", "\t"]));
                format!("{lead}{key}{}{{\n{}{lead}}}\n", dice.pick(&[" ", "\n"]), blocks(tree, &inner, dice))
            }
        };
    }
    text
}

fn arguments(tree: &Tree, lined: bool, dice: &mut Dice) -> String {
    let Tree::Group(entries) = tree else { return String::new() };
    let dash = dice.pick(&["-", "--"]);
    let gap = if lined || dice.of(3) == 0 { "\n" } else { " " };
    let words: Vec<String> = entries
        .iter()
        .flat_map(|(key, value)| match value {
            Tree::Leaf(n) => {
                let value = ["1", "-5", "\"x y\"", "'a \"b'", "c\\ d", "-"][usize::from(*n) % 6];
                vec![format!("{dash}{key} {value}")]
            }
            Tree::List(items) => items.iter().map(|_| format!("{dash}{key} again")).collect(),
            Tree::Group(_) => vec![format!("{dash}{key}")],
        })
        .collect();
    let lead = if gap == "\n" { dice.comment("#") } else { String::new() };
    format!("{lead}{}\n", words.join(gap))
}

fn flat(tree: &Tree, format: Format, dice: &mut Dice) -> String {
    let Tree::Group(entries) = tree else { return dice.comment("#") };
    let mut text = String::new();
    for (key, value) in entries {
        let n = if let Tree::Leaf(n) = value { usize::from(*n) } else { 0 };
        text += &dice.comment("#");
        text += &match format {
            Format::Lines => format!("{key}{}\n", dice.pick(&["", " # why"])),
            Format::Keywords => {
                format!("{key}{}{}\n", ["", " 1", " \"x // y\"", " a b"][n % 4], dice.pick(&["", " // why"]))
            }
            Format::Pairs => format!("{key}{}{}\n", dice.pick(&[": ", ":"]), ["1", "x: y", ""][n % 3]),
            _ => format!("{key}{}{}\n", dice.pick(&[" = ", "="]), ["1", "x = y # z", ""][n % 3]),
        };
        text += dice.pick(&["", "", "\n"]);
    }
    text
}

fn write(format: Format, tree: &Tree, seed: u64) -> String {
    let dice = &mut Dice(seed);
    let mut text = match format {
        Format::Json => json(tree, dice) + dice.pick(&["", "\n"]),
        Format::Table => tables(tree, dice),
        Format::KeywordsAnywhere | Format::BlocksAnywhere | Format::PropertiesLoose => {
            unreachable!("not among all")
        }
        Format::Yaml => format!("{}{}", dice.comment("#"), yaml_block(tree, "", dice)),
        Format::Toml => toml_text(tree, dice),
        Format::Xml => format!(
            "{}{}",
            dice.pick(&["", "<?xml version=\"1.0\"?>\n", "<!-- c -->\n"]),
            xml("root", &Tree::Group(vec![("x".into(), tree.clone())]), "", dice)
        ),
        Format::Ini => ini(tree, dice),
        Format::Blocks => blocks(tree, "", dice),
        Format::Arguments => arguments(tree, false, dice),
        Format::Options => arguments(tree, true, dice),
        Format::Properties | Format::Pairs | Format::Lines | Format::Keywords => flat(tree, format, dice),
    };
    if dice.of(4) == 0 {
        text = text.replace('\n', "\r\n");
    }
    if dice.of(4) == 0 {
        text.truncate(text.trim_end_matches(['\r', '\n']).len());
    }
    text
}

/// Returns the places of all groups and lists.
fn holders(node: &Node, at: &Pointer, into: &mut Vec<Pointer>) {
    if matches!(node.body, node::Body::Leaf(_)) {
        return;
    }
    into.push(at.clone());
    for (index, child) in node.children().iter().enumerate() {
        let name = if child.key.is_empty() { index.to_string() } else { child.key.clone() };
        let place = at.join(&name);
        if node.children().iter().filter(|other| !other.key.is_empty() && other.key == child.key).count() < 2
        {
            holders(child, &place, into);
        }
    }
}

/// Edits at random, each judged by another reader: that one value is changed, and no other.
fn only_that(document: &Document, choice: usize) -> Law {
    let format = document.format();
    let Some(model) = witness::model::read(format, document.text()) else { return Ok(()) };
    let mut dice = witness::edits::Dice::new(&format!("{choice}{}", document.text()));
    for _ in 0..3 {
        match witness::edits::edit(document, format, &model, &mut dice) {
            Verdict::Wrong(what) => {
                return Err(TestCaseError::fail(format!("{what}\nin\n{}", document.text())));
            }
            Verdict::Refused(why) => prop_assert!(why != "no such place", "in\n{}", document.text()),
            Verdict::Right => {}
        }
    }
    Ok(())
}

type Law = Result<(), TestCaseError>;

fn others(document: &Document, at: &Pointer) -> Vec<(Pointer, Value)> {
    let within = |place: &Pointer| place.tokens().starts_with(at.tokens());
    document.leaves().into_iter().filter(|(place, _)| !within(place)).collect()
}

/// Sets a value and takes it back.
fn set_and_back(document: &Document, at: &Pointer, value: &Value) -> Law {
    let mut changed = document.clone();
    let Ok(before) = changed.set(at, value) else {
        prop_assert_eq!(changed.text(), document.text(), "what cannot be set changes nothing");
        return Ok(());
    };
    let now = changed.get(at);
    prop_assert!(
        now.as_ref().is_some_and(|now| now.means(value)),
        "{at} is {now:?}, not {value:?}, in\n{}",
        changed.text()
    );
    if document.get(at).is_some() {
        prop_assert_eq!(others(&changed, at), others(document, at), "{} in\n{}", at, changed.text());
    }
    let once = changed.clone();
    changed.set(at, value)?;
    prop_assert_eq!(changed.text(), once.text(), "the same again");
    changed.put_back(at, &before)?;
    prop_assert_eq!(changed.text(), document.text(), "{} taken back from\n{}", at, once.text());
    Ok(())
}

fn insert_and_remove(document: &Document, at: &Pointer, choice: usize, item: &Value) -> Law {
    let Ok(items) = document.items(at) else { return Ok(()) };
    let index = choice % (items.len() + 1);
    let mut changed = document.clone();
    let Ok(before) = changed.insert(at, index, item) else { return Ok(()) };
    let mut expected: Vec<String> = items.iter().map(Value::meaning).collect();
    expected.insert(index, item.meaning());
    let now: Vec<String> = changed.items(at)?.iter().map(Value::meaning).collect();
    prop_assert_eq!(now, expected, "{} in\n{}", at, changed.text());
    let once = changed.text().to_owned();
    changed.remove(at, index)?;
    if items.is_empty() {
        match &before {
            Before::Absent { made } if *made > 0 => {
                changed.put_back(at, &Before::Absent { made: made - 1 })?;
            }
            Before::Instead { .. } => changed.put_back(at, &before)?,
            _ => {}
        }
    }
    prop_assert_eq!(changed.text(), document.text(), "{} item {} taken out of\n{}", at, index, once);
    Ok(())
}

fn commute(document: &Document, leaves: &[(Pointer, Value)], choice: usize, value: &Value) -> Law {
    let (Some((one, _)), Some((two, _))) =
        (leaves.get(choice), leaves.get((choice + 1) % leaves.len().max(1)))
    else {
        return Ok(());
    };
    if one == two || document.get(one).is_none() || document.get(two).is_none() {
        return Ok(());
    }
    let (mut first, mut second) = (document.clone(), document.clone());
    let other = Value::Text("other".into());
    if first.set(one, value).is_err() || first.set(two, &other).is_err() {
        return Ok(());
    }
    second.set(two, &other)?;
    second.set(one, value)?;
    // A group takes its indentation from the file as it finds it.
    if matches!(value, Value::Compound(_)) {
        prop_assert_eq!(first.leaves(), second.leaves());
    } else {
        prop_assert_eq!(first.text(), second.text());
    }
    Ok(())
}

fn laws(format: Format, text: &str, choice: usize, value: &Value) -> Law {
    let document =
        Document::parse(format, text).map_err(|error| TestCaseError::fail(format!("{error}\nin\n{text}")))?;
    prop_assert_eq!(document.text(), text);
    only_that(&document, choice)?;
    let leaves = document.leaves();
    if let Some((at, _)) = leaves.get(choice % leaves.len().max(1)) {
        set_and_back(&document, at, value)?;
        commute(&document, &leaves, choice % leaves.len(), value)?;
    }
    let mut places = Vec::new();
    holders(&document.root, &Pointer::root(), &mut places);
    if let Some(at) = places.get(choice % places.len().max(1)) {
        set_and_back(&document, &at.join("new_key"), value)?;
        set_and_back(&document, &at.join("new").join("deep"), value)?;
        insert_and_remove(&document, at, choice / 7, value)?;
        insert_and_remove(&document, &at.join("new_list"), 0, value)?;
    }
    for (at, _) in leaves.iter().take(4) {
        insert_and_remove(&document, at, choice / 5, value)?;
        set_and_back(&document, &at.join("inside"), value)?;
    }
    if let Ok(None) = document.fragment("our-block") {
        let mut changed = document.clone();
        if changed.set_fragment("our-block", Some("# only a comment")).is_ok() {
            changed.set_fragment("our-block", None)?;
            prop_assert_eq!(changed.text(), text);
        }
    }
    Ok(())
}

fn new_value() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Flag(false)),
        Just(Value::Whole(42)),
        Just(Value::Real(0.5)),
        "[a-zé][a-z ,:#\"'\\[\\]]{0,6}[a-z]".prop_map(Value::Text),
        Just(Value::Text(String::new())),
        Just(Value::Compound(serde_json::json!({ "a": 1, "b": ["x", "y z"] }))),
    ]
}

macro_rules! laws {
    ($($name:ident: $format:expr, $broken:expr;)*) => {$(
        mod $name {
            use super::*;

            proptest! {
                #![proptest_config(ProptestConfig::with_cases(cases()))]

                #[test]
                fn keeps_the_laws(tree in root(), seed in any::<u64>(), choice in 0_usize..1000, value in new_value()) {
                    laws($format, &write($format, &tree, seed), choice, &value)?;
                }

                #[test]
                fn never_panics(text in $broken, choice in 0_usize..9, value in new_value()) {
                    if let Ok(document) = Document::parse($format, &text) {
                        prop_assert_eq!(document.text(), &text);
                        let mut changed = document.clone();
                        let _ignored = changed.set(&Pointer::parse("/a").unwrap(), &value);
                        let _ignored = changed.insert(&Pointer::parse(["", "/a", "/b/0"][choice % 3]).unwrap(), choice, &value);
                        let _ignored = changed.remove(&Pointer::parse(["", "/a"][choice % 2]).unwrap(), 0);
                        let _ignored = changed.unset(&Pointer::parse("/a").unwrap());
                        for (at, _) in document.leaves() {
                            let _ignored = changed.set(&at, &value);
                            let _ignored = changed.unset(&at);
                        }
                    }
                }

                #[test]
                fn a_broken_file_is_no_panic(tree in root(), seed in any::<u64>(), cut in any::<usize>(), sign in "[\\[\\]{}:\"'<>=,#\n -]") {
                    let mut text = write($format, &tree, seed);
                    let at = (0..=text.len()).rev().find(|at| *at <= cut % (text.len() + 1) && text.is_char_boundary(*at)).unwrap_or(0);
                    text.insert_str(at, &sign);
                    if let Ok(mut document) = Document::parse($format, &text) {
                        let _ignored = document.set(&Pointer::parse("/a/b").unwrap(), &Value::Whole(1));
                    }
                    text.truncate(at);
                    if let Ok(mut document) = Document::parse($format, &text) {
                        let _ignored = document.insert(&Pointer::parse("/a").unwrap(), 1, &Value::Whole(1));
                    }
                }
            }
        }
    )*};
}

/// How many files of each format: 10,000 where `YALOTHECA_REAL` asks for all, fewer beside the keyboard.
fn cases() -> u32 {
    if option_env!("YALOTHECA_LAWS").is_some() { 10_000 } else { 1_000 }
}

fn root() -> impl Strategy<Value = Tree> {
    group(tree(3))
}

laws! {
    json: Format::Json, "[{}\\[\\]\",:a1 /*\n-]{0,40}";
    yaml: Format::Yaml, "[-a:b#\\[\\]{},\"'|>&*!% \n?é]{0,40}";
    toml: Format::Toml, "[\\[\\]a=.\"'#1,{} \n]{0,40}";
    xml: Format::Xml, "<[a/<>=\"'& !\\-\n?]{0,40}";
    table: Format::Table, "[a={}\\[\\]\"',;1 \n-]{0,40}";
    ini: Format::Ini, "[a\\[\\]=;#\" \n]{0,40}";
    blocks: Format::Blocks, "[a{}\"#/ \n]{0,40}";
    arguments: Format::Arguments, "[a\\-=\"'\\\\# \n]{0,40}";
    options: Format::Options, "[a\\-=\"'\\\\# \n]{0,40}";
    properties: Format::Properties, "[a={}\"# \n\r]{0,40}";
    pairs: Format::Pairs, "[a:{}\"# \n\r]{0,40}";
    lines: Format::Lines, "[ab# \n\r\t]{0,40}";
    keywords: Format::Keywords, "[ab\"/# \r\n\té]{0,40}";
}
