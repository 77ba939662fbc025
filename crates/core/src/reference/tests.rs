use super::*;
use crate::game::{BUILT_IN, Game, load};

/// A server's files in memory.
struct Memory(BTreeMap<TreePath, String>);

impl Memory {
    fn of(files: &[(&str, &str)]) -> Self {
        let file = |(path, text): &(&str, &str)| (TreePath::new(path).unwrap(), (*text).to_owned());
        Self(files.iter().map(file).collect())
    }
}

impl Files for Memory {
    fn named(&mut self, _: &str, glob: &GlobMatcher) -> Vec<TreePath> {
        self.0.keys().filter(|path| glob.is_match(path.as_str())).cloned().collect()
    }
    fn text(&mut self, path: &TreePath) -> Option<TextFile> {
        self.0.get(path).map(|text| text.as_str().into())
    }
    fn has(&mut self, path: &TreePath) -> bool {
        self.0.keys().any(|file| file == path || file.is_within(path))
    }
    fn may_hide(&mut self, _: &str) -> bool {
        false
    }
}

/// The saltwick definition with references of our own.
fn game(references: &str) -> Game {
    let (_, text) = BUILT_IN.iter().find(|(name, _)| *name == "saltwick").unwrap();
    load("g.toml", &format!("{text}\n{references}")).unwrap()
}

fn says(references: &str, files: &[(&str, &str)]) -> Vec<String> {
    breaks(&game(references).references, &mut Memory::of(files)).iter().map(Break::says).collect()
}

#[test]
fn each_sort_of_target_is_looked_up() {
    for (reference, files, expected) in [
        (
            "each = \"people/*.xml#/person/@stock\"\nis = { stem-of = \"stock/*.json\" }",
            vec![
                ("people/a.xml", "<person stock=\"rope\"/>"),
                ("people/b.xml", "<person stock=\"rop\"/>"),
                ("stock/rope.json", "{}"),
            ],
            "people/b.xml, line 1: stock rop is not there (no stock/*.json of that name)",
        ),
        (
            "each = \"server.conf#/world\"\nas = \"options\"\nis = { path-of = \"maps/*.bzw\" }\ncalled = \"the world\"",
            vec![("server.conf", "# x\n-p 1\n-world maps/lb.bzw\n"), ("maps/lab.bzw", "")],
            "server.conf, line 3: the world maps/lb.bzw is not there (no such file among maps/*.bzw)",
        ),
        (
            "each = \"a.yml#/*/to\"\nis = { entry = \"b.yml#/*/name\" }",
            vec![("a.yml", "- to: mist\n- to: reed\n"), ("b.yml", "- name: mist\n")],
            "a.yml, line 2: to reed is not there (b.yml does not have it)",
        ),
        (
            "each = \"a.ini#/S/on\"\nseparator = \";\"\nis = { key-of = \"b.json#/items\" }",
            vec![("a.ini", "[S]\non = x; y\n"), ("b.json", "{\"items\": {\"x\": {}}}")],
            "a.ini, line 2: on y is not there (b.json does not have it)",
        ),
        (
            "each = \"a.def#/host/plays\"\nis = { below = \"campaigns\" }",
            vec![("a.def", "host {\n plays \"North/open\"\n}\n"), ("campaigns/South/open/x", "")],
            "a.def, line 2: plays North/open is not there (no such folder below campaigns/)",
        ),
        (
            "each = \"a.json#/mode\"\nis = { words = [\"calm\", \"storm\"] }",
            vec![("a.json", "{\"mode\": \"strom\"}")],
            "a.json, line 1: mode strom is not there (one of calm, storm)",
        ),
        (
            "each = \"x.args#/carry\"\nseen-as = '^items/(?<item>\\w+)'\nis = { stem-of = \"items/*.txt\" }",
            vec![
                ("x.args", "--carry items/reed,7 --carry other --carry items/heron\n"),
                ("items/reed.txt", ""),
            ],
            "x.args, line 1: carry heron is not there (no items/*.txt of that name)",
        ),
        (
            "once = \"stock/*.json#/sells/*\"\ncalled = \"the ware group\"",
            vec![
                ("stock/a.json", "{\"sells\": [\"rope\", \"tar\"]}"),
                ("stock/b.json", "{\n\"sells\": [\"rope\"]}"),
            ],
            "stock/b.json, line 2: the ware group rope may be named once only, and stock/a.json, line 1 names it too",
        ),
        (
            "once = \"a.yml#/*/name\"",
            vec![("a.yml", "- name: mist\n- name: mist\n")],
            "a.yml, line 2: name mist is there twice, in line 1 as well",
        ),
    ] {
        assert_eq!(says(&format!("[[reference]]\n{reference}\n"), &files), [expected], "{reference}");
    }
}

#[test]
fn the_nearest_right_name_is_offered_and_several_targets_will_do() {
    let references =
        "[[reference]]\neach = \"a.yml#/*\"\nis = [{ words = [\"open\"] }, { stem-of = \"posts/*.toml\" }]\n";
    let files = [("a.yml", "- open\n- quay\n- qay\n- \"\"\n"), ("posts/quay.toml", "")];
    let found = breaks(&game(references).references, &mut Memory::of(&files));
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0].near.as_deref(), Some("did you mean quay?"));
}

#[test]
fn keys_name_folders_where_they_are_switched_on() {
    let references =
        "[[reference]]\neach-key = \"a.yml#/items\"\nif = \"/load\"\nis = { folder-of = \"items/*/*\" }\n";
    let list = "items:\n  Heron:\n    load: true\n  heron:\n    load: true\n  Reed:\n    load: false\n";
    let files = [("a.yml", list), ("items/1/Heron/parts/x", ""), ("items/1/heron", ""), ("items/x", "")];
    let found = breaks(&game(references).references, &mut Memory::of(&files));
    let told: Vec<(&str, usize)> = found.iter().map(|one| (one.value.as_str(), one.at.line)).collect();
    assert_eq!(told, [("heron", 4)], "a file of that name is no folder: {found:?}");
    assert_eq!(found[0].near.as_deref(), Some("did you mean Heron?"));
}

#[test]
fn of_a_file_that_cannot_be_read_nothing_is_claimed() {
    let references = "[[reference]]\neach = \"a.yml#/*/to\"\nis = { entry = \"b.yml#/*/name\" }\n";
    assert!(says(references, &[("a.yml", "- to: mist\n"), ("b.yml", "- name: [mist\n")]).is_empty());
    assert!(says(references, &[("a.yml", "- to: [mist\n"), ("b.yml", "- name: x\n")]).is_empty());
    assert_eq!(
        says(references, &[("a.yml", "- to: mist\n")]).len(),
        1,
        "a file that is not there has no entries"
    );
}

#[test]
fn a_reference_that_says_too_much_or_too_little_is_a_mistake() {
    let (_, text) = BUILT_IN.iter().find(|(name, _)| *name == "saltwick").unwrap();
    for (reference, says) in [
        ("each = \"a.yml#/x\"", "either \"each\" and \"is\", \"each\" and \"numbers\", or \"once\""),
        ("is = { words = [] }", "either \"each\" or \"each-key\""),
        (
            "each = \"a.yml#/x\"\neach-key = \"a.yml#/x\"\nis = { words = [] }",
            "either \"each\" or \"each-key\"",
        ),
        ("each = \"a.yml#/x\"\nif = \"/on\"\nis = { words = [] }", "goes with \"each-key\""),
        ("each = \"a.yml#/x\"\nis = { folder-of = \"[\" }", "the pattern is wrong"),
        ("once = \"a.yml#/x\"\nis = { words = [] }", "either \"each\" and \"is\""),
        ("once = \"a.yml#/x\"\nnumbers = 3", "either \"each\" and \"is\""),
        ("each = \"a.yml#/x\"\nnumbers = \"three\"", "how many numbers"),
        ("each = \"a.yml\"\nis = { words = [] }", "files#/pointer"),
        ("each = \"a.nothing#/x\"\nis = { words = [] }", "does not tell its format"),
        ("each = \"a.yml#x\"\nis = { words = [] }", "is not a pointer"),
        ("each = \"a.yml#/x\"\nis = { stem-of = \"[\" }", "the pattern is wrong"),
        ("each = \"a.yml#/x\"\nis = { }", "what is named is one of"),
        ("each = \"a.yml#/x\"\nseen-as = 'x'\nis = { below = \"x\" }", "needs a group (?<item>"),
    ] {
        let error = load("g.toml", &format!("{text}\n[[reference]]\n{reference}\n")).unwrap_err();
        assert!(error.to_string().contains(says), "{reference}: {error}");
        assert!(error.line > text.lines().count(), "{reference}: {error}");
    }
}

#[test]
fn numbers_that_belong_together_are_there_and_are_numbers() {
    let people =
        "each = \"people/*.xml#/person/at\"\nnumbers = [\"@x\", \"@y\", \"@z\"]\ncalled = \"the place\"";
    let posts = "each = \"posts/*.toml#/centre\"\nnumbers = 3\ncalled = \"the centre\"";
    for (rule, file, text, expected) in [
        (people, "people/a.xml", "<person><at x=\"1.5\" y=\"-3\" z=\"8e1\"/></person>", None),
        (
            people,
            "people/a.xml",
            "<person>\n<at x=\"1,5\" y=\"3\" z=\"8\"/></person>",
            Some("people/a.xml, line 2: the place must be a number for each of x, y, z, not 1,5, 3, 8"),
        ),
        (
            people,
            "people/a.xml",
            "<person><at x=\"1\" y=\"3\"/></person>",
            Some("people/a.xml, line 1: the place must be a number for each of x, y, z, not 1, 3"),
        ),
        (
            people,
            "people/a.xml",
            "<person post=\"quay\"/>",
            Some("people/a.xml, line 1: the place is missing; it must be a number for each of x, y, z"),
        ),
        (posts, "posts/a.toml", "label = \"a\"\ncentre = [1, 2.5, 3]\n", None),
        (
            posts,
            "posts/a.toml",
            "label = \"a\"\ncentre = [1, 2]\n",
            Some("posts/a.toml, line 2: the centre must be 3 numbers, not 1, 2"),
        ),
        (
            posts,
            "posts/a.toml",
            "centre = [1, 2, 3, 4]\n",
            Some("posts/a.toml, line 1: the centre must be 3 numbers, not 1, 2, 3, 4"),
        ),
        (
            posts,
            "posts/a.toml",
            "centre = [1, \"b\", 3]\n",
            Some("posts/a.toml, line 1: the centre must be 3 numbers, not 1, b, 3"),
        ),
        (
            posts,
            "posts/a.toml",
            "label = \"a\"\n",
            Some("posts/a.toml, line 1: the centre is missing; it must be 3 numbers"),
        ),
    ] {
        let says = says(&format!("[[reference]]\n{rule}"), &[(file, text)]);
        let own: Vec<&String> = says.iter().filter(|line| line.starts_with(file)).collect();
        assert_eq!(own.first().map(|line| line.as_str()), expected, "{text}");
    }
}
