//! What each finding means for the server, by its code.

/// The codes of all findings, each with what happens on the server because of it.
pub const MEANINGS: &[(&str, &str)] = &[
    (
        "altered-file",
        "It is kept as it is. Where that was an accident, the content may not do what its release does.",
    ),
    ("bad-name", "The server refuses to start with such a name, or skips the content."),
    ("broken-file", "The server fails at this file or ignores it, and nothing can be changed in it."),
    ("changed-by-hand", "Somebody's value is kept, so the content may not be set up as it asks for."),
    (
        "clash",
        "The game knows both by one name and takes one of them; what belongs with the other looks wrong or flickers.",
    ),
    ("compiled-old", "The server still uses what was compiled before, or refuses to start."),
    ("copy-missing", "The server looks for it there, and turns players away or goes without it."),
    ("damaged", "The server may fail at it, or load only a part of it."),
    ("circle", "The server can load none of them, or loads them without what they need."),
    (
        "disagree",
        "The server reads two answers to one question, and starts with the wrong one or not at all.",
    ),
    ("first-start", "What it makes at its first start can be looked at only afterwards."),
    ("goes-with", "The two work together in other versions only; features may fail while people play."),
    ("half-a-tweak", "The parts of a tweak work together; half of one can do harm that the whole does not."),
    ("key-broken", "The server does not accept what it signs."),
    ("key-changed", "The server accepts everything that the holder of this key signs."),
    ("key-doubled", "The server refuses to start, or accepts what another person has signed."),
    ("key-missing", "Players who join are turned away, since nothing shows that the part is the author's."),
    (
        "key-orphaned",
        "Anyone who holds the private half of this key can sign contents that your server accepts.",
    ),
    ("left-over", "The server still loads, or looks for, what is not wanted any more."),
    ("link-out", "It is not updated, not checked for what it needs, and never changed."),
    (
        "listed-missing",
        "The server looks for it at each start, reports an error, and starts without it or not at all.",
    ),
    ("lock-missing", "Without the lock nothing tells which versions belong here."),
    ("lock-outdated", "Settling with this lock would undo what somebody else has changed."),
    ("missing-file", "The server cannot load the content, or loads it incomplete."),
    ("map-without", "The server does not start: it has nothing to play the map on."),
    ("mirror-behind", "Players who lack this file cannot download it, or get an old one."),
    ("mirror-setting", "Players' games look in the wrong place, or do not look at all."),
    ("mirror-silent", "Players may not be able to download what they lack."),
    (
        "missing-map",
        "The server fails when it comes to this map; where it is the first one, it does not start.",
    ),
    ("missing-value", "The server does not know what to start with."),
    ("named-file", "The server looks for a file that is not there."),
    ("needs", "The server skips the content, or fails when it loads it."),
    ("not-registered", "The files are here, and the server does not load them."),
    ("not-settled", "The server still runs what was there before."),
    ("odd-name", "It is not updated, not checked for what it needs, and never changed."),
    ("order", "The content is loaded before what it builds on, and may fail or lose its changes."),
    ("other-file", "Another file lies where this content's file belongs, so the server loads that one."),
    ("other-release", "The server loads another version than the one whose needs were checked."),
    ("pack-digest", "Players who join do not get the pack, or are turned away where they must have it."),
    ("pack-link", "Players who join do not get the pack, or are turned away where they must have it."),
    ("pack-silent", "Players who join may not get the pack."),
    ("platform", "The content was made for another version of the game, and may fail to load."),
    ("receipt-missing", "Without the receipt nothing tells which files and entries Yalotheca put here."),
    (
        "reference",
        "The server finds nothing under that name, and goes without it or fails when it is reached.",
    ),
    ("refuses", "The two cannot run on one server."),
    ("registered-wrong", "The server loads the content in another way than it should."),
    ("runtime", "The engine does not start on another one, or not at all."),
    ("second", "The server refuses to start with two of one name, or takes the wrong one."),
    ("signature", "Players who join are turned away, since nothing shows that the part is the author's."),
    ("stray-line", "It does nothing; whatever it was meant to set is not set."),
    ("terms", "The server ends at once until its terms are accepted."),
    ("too-large", "Players who lack the file do not get it, and are turned away."),
    ("unknown", "Nothing is known of what it needs, so that cannot be checked."),
    ("unlisted", "It is loaded after everything else, whatever it asks for."),
    ("unowned", "It is not updated, not checked for what it needs, and never removed."),
    ("unreadable", "It cannot be told what it is; the server may fail at it."),
    ("wanted", "The server runs another version than yalotheca.toml asks for, or none."),
    ("wrong-folder", "The server does not find it there."),
];

/// Returns what a finding means for the server.
pub fn meaning(code: &str) -> &'static str {
    MEANINGS.iter().find(|(known, _)| *known == code).map_or("", |(_, meaning)| meaning)
}
