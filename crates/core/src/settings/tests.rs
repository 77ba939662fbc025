use super::*;
use crate::document::Format;

fn p(text: &str) -> Pointer {
    Pointer::parse(text).unwrap()
}

fn yaml(text: &str) -> Document {
    Document::parse(Format::Yaml, text).unwrap()
}

#[test]
fn values_are_judged_by_what_is_known() {
    let defaults = yaml("volume:\n  default: 5\n  loud: true\nname: bells\nhours: [6, 18]\n");
    let rules = rules_of_schema(
        r#"{ "properties": { "volume": { "properties": {
            "default": { "type": "integer", "minimum": 0, "maximum": 11 } } },
            "tone": { "enum": ["low", "high"] } } }"#,
    )
    .unwrap();
    let known = Known { now: None, defaults: Some(&defaults), rules: &rules, open: false, described: false };
    for (at, text, expected) in [
        ("/volume/default", "3", Ok(Value::Whole(3))),
        ("/volume/default", "12", Err("from 0 to 11")),
        ("/volume/default", "3.5", Err("whole number")),
        ("/volume/loud", "false", Ok(Value::Flag(false))),
        ("/volume/loud", "maybe", Err("the value there is a switch")),
        ("/name", "7", Ok(Value::Text("7".into()))),
        ("/hours", "[7, 19]", Ok(Value::Compound(serde_json::json!([7, 19])))),
        ("/hours", "7", Err("the value there is a list")),
        ("/tone", "high", Ok(Value::Text("high".into()))),
        ("/tone", "hgh", Err("did you mean high?")),
        ("/volum/default", "3", Err("has no setting")),
    ] {
        let judged = known.judge("settings.yml", &p(at), &Value::from(text));
        match (judged, expected) {
            (Ok(value), Ok(expected)) => assert_eq!(value, expected, "{at}"),
            (Err(error), Err(says)) => {
                assert!(error.to_string().contains(says), "{at}: {error}");
            }
            (judged, _) => panic!("{at} {text}: {judged:?}"),
        }
    }
    let error = known.judge("settings.yml", &p("/volum/default"), &Value::Whole(3)).unwrap_err();
    assert_eq!(error.hint(), Some("did you mean /volume/default?".into()));
    assert_eq!(known.meant(&p("/volume/*")), [p("/volume/default"), p("/volume/loud")]);
}

#[test]
fn texts_that_read_as_numbers_are_numbers() {
    let now = Document::parse(Format::Properties, "port = 7710\nmust = yes\n").unwrap();
    let known = Known { now: Some(&now), ..Known::default() };
    assert!(known.judge("x", &p("/port"), &Value::from("7720")).is_ok());
    assert!(known.judge("x", &p("/port"), &Value::from("harbour")).is_err());
    assert!(known.judge("x", &p("/must"), &Value::from("no")).is_ok());
    assert!(known.judge("x", &p("/must"), &Value::from("7")).is_err());
}

#[test]
fn new_defaults_are_merged_three_ways() {
    let old = "a: 1\nb: 1\nc: 1\ngone: 1\nlist: [1, 2]\n";
    let new = "a: 2\nb: 2\nc: 1\nfresh: { deep: 7 }\nlist: [1, 2, 3]\n";
    let mine = "# mine\na: 1 # as it came\nb: 9\nc: 5\ngone: 4\nlist: [1, 2]\n";
    let merged = merge(Format::Yaml, (old, new, mine), &[]).unwrap();
    assert_eq!(
        merged.text,
        "# mine\na: 2 # as it came\nb: 9\nc: 5\ngone: 4\nlist: [1,2,3]\nfresh:\n  deep: 7\n"
    );
    let kept: BTreeMap<&str, (&str, KeptWhy)> =
        merged.kept.iter().map(|kept| (kept.at.as_str(), (kept.value.as_str(), kept.why))).collect();
    assert_eq!(kept, [("/b", ("9", KeptWhy::Changed)), ("/gone", ("4", KeptWhy::Forgotten))].into());
    assert_eq!(merge(Format::Yaml, (old, new, mine), &[p("/b")]).unwrap().kept.len(), 1);
}

#[test]
fn lists_of_lines_are_merged_by_lines() {
    let merged = merge(Format::Lines, ("a\nb\nc\n", "a\nb\nc\nd\n", "x\na\nb\nc\n"), &[]).unwrap();
    assert_eq!((merged.text.as_str(), merged.kept.len()), ("x\na\nb\nc\nd\n", 0));
    let merged = merge(Format::Lines, ("a\n", "b\n", "c\n"), &[]).unwrap();
    assert_eq!((merged.text.as_str(), merged.kept.len()), ("c\n", 1));
}
