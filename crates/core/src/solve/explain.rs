//! Why there is no lineup, in sentences.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::{
    Question,
    blame::{Blame, Effort, blame},
    engine::DeadEnd,
    naming::{MOST_LISTED, listed, listed_or, name_releases},
    verify::with_range,
    ways::ways_out,
};
use crate::{
    catalogue::{Content, Line, Number, PlatformMiss, Provided, Release, Saying, provided_matches},
    id::ContentId,
    sets::{Bits, Set},
    version::{ReleaseVersion, VersionRange},
};

/// Why there is no lineup.
#[derive(Debug, Clone, Serialize)]
pub struct Explanation {
    /// The sentences, what was asked for first.
    pub because: Vec<Statement>,
    /// How many more take part that are not told.
    pub left_out: usize,
    /// What would help, the smallest change first.
    pub ways_out: Vec<WayOut>,
}

/// One sentence of an explanation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Statement {
    /// Which sort: `want`, `need`, `missing`, `welcome`, `refuse`, `platform` or `withdrawn`.
    pub sort: &'static str,
    /// Which contents speak: all that are wanted, or one after another along a chain of needs.
    pub contents: Vec<ContentId>,
    /// The sentence.
    pub text: String,
}

/// A change after which there is a lineup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct WayOut {
    /// What to change.
    pub change: String,
    /// The wants to change, and the version that each would get; no version means to do without it. Empty where it is
    /// the platform that would have to change.
    pub wants: Vec<(ContentId, Option<ReleaseVersion>)>,
    /// What to do, where the wants can do it; a front end words it.
    #[serde(skip)]
    pub act: Option<WayAct>,
}

/// What to do to take a way out.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WayAct {
    /// Contents to do without.
    pub drop: Vec<ContentId>,
    /// Contents to ask for, each in a range of versions.
    pub add: Vec<(ContentId, VersionRange)>,
    /// Contents to switch on, without those that stay off.
    pub switch_on: Vec<ContentId>,
}

/// The most sentences that are told.
const MOST_TOLD: usize = 30;

/// With more needs than this a content's releases are told together.
const MOST_NEEDS: usize = 3;

/// A chain of needs with more links than this is shortened in the middle.
const MOST_LINKS: usize = 5;

/// This many contents that fail for the same reason share one sentence.
const ALIKE: usize = 3;

/// Builds the explanation from the rules that leave nothing.
///
/// # Errors
/// What would have to be read to find the ways out.
pub(super) fn explain(question: &Question<'_>, end: &DeadEnd<'_>) -> Result<Explanation, Vec<Number>> {
    let core = blame(question, end, &mut Effort::new(end.conflicts / 4 + 50));
    let teller = Teller { question, core: &core };
    let mut because = teller.sentences();
    let left_out = because.len().saturating_sub(MOST_TOLD);
    because.truncate(MOST_TOLD);
    let mut effort = Effort::new(end.conflicts / 4 + 2_000);
    let ways_out = ways_out(question, &core, &mut effort);
    if effort.unread.is_empty() {
        Ok(Explanation { because, left_out, ways_out })
    } else {
        Err(effort.unread)
    }
}

/// One sentence before it is joined to others.
#[derive(Clone)]
struct Clause {
    sort: &'static str,
    subject: Number,
    releases: Set,
    /// What follows the name: "need", or "needs" for one.
    verb: (&'static str, &'static str),
    rest: String,
    /// The one content that is needed, and its releases that will do.
    leads_to: Option<(Number, Set)>,
    /// All contents that it names.
    names: Vec<Number>,
    /// Other contents that the same clause is about.
    others: Vec<Number>,
}

impl Clause {
    fn verb(&self) -> &'static str {
        self.verb.1
    }
}

struct Teller<'a> {
    question: &'a Question<'a>,
    core: &'a BTreeSet<Blame>,
}

impl Teller<'_> {
    /// From the wants along the needs, so that each sentence speaks of something that was mentioned before.
    fn sentences(&self) -> Vec<Statement> {
        let mut sentences = self.wants();
        let mut waiting = self.clauses();
        let mut reached: BTreeSet<Number> = self
            .core
            .iter()
            .filter(|blame| matches!(blame, Blame::Want(_)))
            .map(|blame| blame.subject())
            .collect();
        while !waiting.is_empty() {
            let is_reached = |clause: &Clause| {
                reached.contains(&clause.subject) || clause.others.iter().any(|other| reached.contains(other))
            };
            let at = waiting.iter().position(is_reached).unwrap_or(0);
            let first = waiting.remove(at);
            reached.extend(&first.names);
            let mut contents = vec![self.id(first.subject).clone()];
            contents.extend(first.others.iter().map(|number| self.id(*number).clone()));
            let (who, many) = self.speakers(&first);
            let mut links =
                vec![format!("{who} {} {}", if many { first.verb.0 } else { first.verb() }, first.rest)];
            let mut sort = first.sort;
            let mut last = first;
            while let Some(at) = next_in_chain(&last, &waiting, self.core) {
                last = waiting.remove(at);
                reached.extend(&last.names);
                contents.push(self.id(last.subject).clone());
                links.push(format!("which {} {}", last.verb(), last.rest));
                sort = last.sort;
            }
            sentences.push(Statement { sort, contents, text: folded(&links) });
        }
        sentences
    }

    fn wants(&self) -> Vec<Statement> {
        let mut wanted: Vec<&ContentId> = Vec::new();
        for blame in self.core {
            if let Blame::Want(number) = blame {
                wanted.push(self.id(*number));
            }
        }
        if wanted.is_empty() {
            return Vec::new();
        }
        wanted.sort();
        let texts: Vec<String> = wanted.iter().map(|id| self.want(id)).collect();
        let facts: String = wanted
            .iter()
            .filter_map(|id| self.what_there_is(&[(*id, self.question.wants.get(*id)?)]))
            .collect();
        let contents = wanted.into_iter().cloned().collect();
        vec![Statement {
            sort: "want",
            contents,
            text: format!("yalotheca.toml asks for {}{facts}", listed(&texts)),
        }]
    }

    fn want(&self, id: &ContentId) -> String {
        let (range, content) = (self.question.wants.get(id), self.question.universe.get(id));
        match (range, content) {
            (Some(range), Some(content)) => shown_range(content, range),
            _ => id.to_string(),
        }
    }

    /// Everything but the wants, in an order that does not depend on how the proof was found.
    fn clauses(&self) -> Vec<Clause> {
        let mut clauses: Vec<Clause> = Vec::new();
        let mut misses: BTreeMap<(Number, PlatformMiss), Set> = BTreeMap::new();
        for blame in self.core {
            match *blame {
                Blame::Want(_) => {}
                Blame::Platform(number, ground) => {
                    let Some(rare) = self.question.universe.gathered(number).rare() else {
                        continue;
                    };
                    let (releases, one) = &rare.grounds[ground as usize];
                    let release = &self.content(number).releases[*one as usize];
                    for miss in self.question.platform.misses(release) {
                        let known = misses.entry((number, miss)).or_insert_with(|| releases.clone());
                        *known = known.or(releases);
                    }
                }
                Blame::Withdrawn(number) => {
                    let rare = self.question.universe.gathered(number).rare();
                    let withdrawn = rare.and_then(|rare| rare.withdrawn.clone());
                    clauses.push(Clause {
                        sort: "withdrawn",
                        subject: number,
                        releases: withdrawn.unwrap_or(Set::One(0)),
                        verb: ("were", "was"),
                        rest: "withdrawn by the author".into(),
                        leads_to: None,
                        names: Vec::new(),
                        others: Vec::new(),
                    });
                }
                Blame::Line(number, line) => clauses.push(self.line(number, line)),
            }
        }
        clauses.extend(misses.into_iter().map(|((subject, miss), releases)| {
            let range =
                if miss.range.is_any() { String::new() } else { format!(" {}", miss.range.in_words()) };
            Clause {
                sort: "platform",
                subject,
                releases,
                verb: ("need", "needs"),
                rest: format!("{}{range}, and {}", miss.part, miss.what_is_there()),
                leads_to: None,
                names: Vec::new(),
                others: Vec::new(),
            }
        }));
        clauses.sort_by(|a, b| self.id(a.subject).cmp(self.id(b.subject)));
        let mut told: Vec<Clause> = Vec::new();
        for same in clauses.chunk_by(|a, b| a.subject == b.subject) {
            let (needs, others): (Vec<&Clause>, Vec<&Clause>) =
                same.iter().partition(|clause| clause.sort == "need");
            if needs.len() > MOST_NEEDS {
                told.push(self.together(&needs));
                told.extend(others.into_iter().cloned());
            } else {
                told.extend(same.iter().cloned());
            }
        }
        alike_together(&told)
    }

    /// Names the releases that a clause is about, and returns whether there are several.
    fn speakers(&self, clause: &Clause) -> (String, bool) {
        if clause.others.is_empty() {
            return name_releases(self.content(clause.subject), &clause.releases);
        }
        let mut ids: Vec<&str> = vec![self.id(clause.subject).as_str()];
        ids.extend(clause.others.iter().map(|number| self.id(*number).as_str()));
        (listed(&ids), true)
    }

    /// Returns which releases exist, if none of them meets the need: `, and the newest b is 3`.
    fn what_there_is(&self, relations: &[(&ContentId, &VersionRange)]) -> Option<String> {
        let universe = self.question.universe;
        let mut facts = Vec::new();
        for (id, range) in relations {
            let own = universe.get(id);
            let bearers: Vec<&Content> = own
                .into_iter()
                .chain(universe.providers(id).filter_map(|other| universe.get(other)))
                .collect();
            let mut releases = bearers
                .iter()
                .flat_map(|content| content.releases.iter().map(|release| (&content.id, release)));
            if releases.any(|(other, release)| release.meets(other, id, range)) {
                return None;
            }
            // Newest first, as the releases are.
            match own.map(|content| content.releases.as_slice()) {
                Some([only]) if !only.version.is_unversioned() => {
                    facts.push(format!("the only {id} is {}", only.version));
                }
                Some([newest, ..]) if range.is_above(&newest.version) => {
                    facts.push(format!("the newest {id} is {}", newest.version));
                }
                Some([.., oldest]) if range.is_below(&oldest.version) => {
                    facts.push(format!("the oldest {id} is {}", oldest.version));
                }
                Some(releases @ [newest, .., oldest]) => facts.push(format!(
                    "none of the {} releases of {id} from {} to {} is that",
                    releases.len(),
                    oldest.version,
                    newest.version
                )),
                _ => {}
            }
            for other in bearers.iter().filter(|content| content.id != **id) {
                facts.extend(provided(other, id).map(|what| format!("{} only provides {what}", other.id)));
            }
        }
        let most = facts.len().min(MOST_LISTED);
        (most > 0).then(|| format!(", and {}", listed(&facts[..most])))
    }

    /// Returns which contents provide a refused name: `, and z provides b 1`.
    fn stand_ins(&self, subject: Number, relations: &[(&ContentId, &VersionRange)]) -> String {
        let universe = self.question.universe;
        let takes_part = |number: Number| {
            self.core.iter().any(|blame| match blame {
                Blame::Line(speaker, line) => {
                    *speaker == number || universe.gathered(*speaker).line(*line).on == number
                }
                blame => blame.subject() == number,
            })
        };
        let mut found = Vec::new();
        for (id, range) in relations {
            for number in universe.number(id).into_iter().flat_map(|number| universe.providers_of(number)) {
                let Some(other) =
                    universe.content(*number).filter(|_| *number != subject && takes_part(*number))
                else {
                    continue;
                };
                if other.releases.iter().any(|release| release.meets(&other.id, id, range))
                    && let Some(what) = provided(other, id)
                {
                    found.push(format!("{} provides {what}", other.id));
                }
            }
        }
        if found.is_empty() { String::new() } else { format!(", and {}", listed(&found)) }
    }

    /// Tells in one sentence what a content's releases need, each something else.
    fn together(&self, needs: &[&Clause]) -> Clause {
        let mut names: Vec<Number> = needs.iter().flat_map(|clause| clause.names.iter().copied()).collect();
        names.sort_by(|a, b| self.id(*a).cmp(self.id(*b)));
        names.dedup();
        let texts: Vec<&str> = names.iter().map(|number| self.id(*number).as_str()).collect();
        let releases = needs.iter().map(|clause| clause.releases.clone()).reduce(|a, b| a.or(&b));
        Clause {
            sort: "need",
            subject: needs[0].subject,
            releases: releases.unwrap_or(Set::One(0)),
            verb: ("need", "needs"),
            rest: format!("{}, each release other versions", listed(&texts)),
            leads_to: None,
            names,
            others: Vec::new(),
        }
    }

    fn line(&self, subject: Number, line: u32) -> Clause {
        let said = &self.question.universe.gathered(subject).line(line);
        let relations = self.relations(subject, said);
        let universe = self.question.universe;
        let wanted: Vec<String> = relations
            .iter()
            .map(|(id, range)| match universe.get(id) {
                Some(content) => shown_range(content, range),
                None => with_range(id, range),
            })
            .collect();
        let names = relations.iter().filter_map(|(id, _)| universe.number(id)).collect();
        let is_known = relations
            .iter()
            .any(|(id, _)| universe.get(id).is_some() || universe.providers(id).next().is_some());
        let (sort, verb, rest) = match said.saying {
            Saying::Need | Saying::Any(_) if is_known => {
                let facts = self.what_there_is(&relations).unwrap_or_default();
                ("need", ("need", "needs"), listed_or(&wanted) + &facts)
            }
            Saying::Need | Saying::Any(_) => {
                ("missing", ("need", "needs"), format!("{}, and no catalogue has it", listed_or(&wanted)))
            }
            Saying::Welcome => ("welcome", ("go", "goes"), format!("with {} only", listed_or(&wanted))),
            Saying::Refuse => {
                let by = self.stand_ins(subject, &relations);
                ("refuse", ("refuse", "refuses"), format!("to run beside {}{by}", listed_or(&wanted)))
            }
        };
        let leads_to = match (said.saying, relations.as_slice()) {
            (Saying::Need, [(id, range)]) => {
                let number = universe.number(id).filter(|number| universe.providers_of(*number).is_empty());
                number.and_then(|number| Some((number, meeting(universe.content(number)?, range))))
            }
            _ => None,
        };
        let others = Vec::new();
        Clause { sort, subject, releases: said.releases.clone(), verb, rest, leads_to, names, others }
    }

    fn relations(&self, subject: Number, said: &Line) -> Vec<(&ContentId, &VersionRange)> {
        let release: &Release = &self.content(subject).releases[said.release as usize];
        let id = self.question.universe.id(said.on);
        let one = match said.saying {
            Saying::Any(place) => return release.needs_any[usize::from(place)].iter().collect(),
            Saying::Need => &release.needs,
            Saying::Welcome => &release.welcomes,
            Saying::Refuse => &release.refuses,
        };
        one.iter().filter(|(named, _)| *named == id).collect()
    }

    fn id(&self, number: Number) -> &ContentId {
        self.question.universe.id(number)
    }

    fn content(&self, number: Number) -> &Content {
        // Only contents speak, names that nobody bears do not.
        self.question.universe.content(number).unwrap_or_else(|| unreachable!("a content without releases"))
    }
}

/// Returns what a content provides under a name: `b 1 and 2`.
fn provided(other: &Content, id: &ContentId) -> Option<String> {
    let mut versions: Vec<&ReleaseVersion> = other
        .releases
        .iter()
        .filter_map(|release| release.provides.get(id))
        .flat_map(Provided::versions)
        .collect();
    versions.sort();
    versions.dedup();
    if versions.is_empty() {
        return other
            .releases
            .iter()
            .any(|release| release.provides.contains_key(id))
            .then(|| id.to_string());
    }
    let texts: Vec<&str> = versions.iter().map(|version| version.as_str()).collect();
    Some(format!("{id} {}", listed(&texts)))
}

/// Joins a chain of needs; a long chain keeps its beginning and its end.
fn folded(links: &[String]) -> String {
    if links.len() <= MOST_LINKS + 1 {
        return links.join(", ");
    }
    let (first, last) = (&links[..2], &links[links.len() - 1..]);
    format!("{} … ({} more) … {}", first.join(", "), links.len() - 3, last.join(", "))
}

/// Merges clauses that say the same of several contents.
fn alike_together(clauses: &[Clause]) -> Vec<Clause> {
    let same = |a: &Clause, b: &Clause| a.sort == b.sort && a.rest == b.rest && a.subject != b.subject;
    let mut told: Vec<Clause> = Vec::new();
    for clause in clauses {
        let alike = clauses.iter().filter(|other| same(clause, other)).count() + 1;
        match told.iter_mut().find(|known| alike >= ALIKE && same(known, clause)) {
            Some(known) => known.others.push(clause.subject),
            None => told.push(clause.clone()),
        }
    }
    told
}

/// Finds the one clause with which a sentence goes on: where it leads to a content that says one thing only in this
/// explanation, and says it in every release that comes into question.
fn next_in_chain(last: &Clause, waiting: &[Clause], core: &BTreeSet<Blame>) -> Option<usize> {
    let (number, releases) = last.leads_to.as_ref()?;
    if core.contains(&Blame::Want(*number)) {
        return None;
    }
    let mut theirs = waiting.iter().enumerate().filter(|(_, clause)| clause.subject == *number);
    let (at, only) = theirs.next()?;
    let others_lead_there =
        waiting.iter().enumerate().any(|(other, clause)| other != at && clause.names.contains(number));
    let is_one = theirs.next().is_none()
        && !others_lead_there
        && only.sort != "withdrawn"
        && only.others.is_empty()
        && last.others.is_empty();
    (is_one && releases.is_subset(&only.releases)).then_some(at)
}

/// The releases of a content that a range takes.
fn meeting(content: &Content, range: &VersionRange) -> Set {
    let mut set = Set::empty(content.releases.len() + 1);
    for (bit, release) in content.releases.iter().enumerate() {
        if provided_matches(Some(&release.version), range) {
            set.insert(bit);
        }
    }
    set
}

/// Returns `name` or `name 2.1 or newer`; a range that takes every known release says nothing.
fn shown_range(content: &Content, range: &VersionRange) -> String {
    if meeting(content, range).len() == content.releases.len() && !range.is_exact() {
        content.id.to_string()
    } else {
        with_range(&content.id, range)
    }
}
