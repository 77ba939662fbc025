//! Content kinds: how they are recognised, described, placed and registered.

use std::{collections::BTreeMap, ops::Range};

use toml::Spanned;

use super::{Checked, Loader, glob, pattern, pattern_with, template, with};
use crate::{
    document::{Format, Pointer},
    game::{
        ConfigPlace, DescribeRule, DescriptorForm, FactRule, Kind, LIVE_NAMES, LengthRule, LoadsFrom, Pick,
        PlaceRule, PlayersPart, RegisterRule, RegisterVerb, SchemaLine, SettingsFile, Shape, Template,
        ValueTemplate,
        raw::{
            RawDescribe, RawFact, RawKind, RawLoadsFrom, RawPick, RawPlace, RawRegister, RawSchemaLine,
            RawSettings, Text,
        },
    },
    settings::SettingType,
    suggest,
};

const CONTENT: &[&str] =
    &["content.id", "content.title", "content.kind", "content.file", "release.version", "fact.*"];
const MEMBER: &[&str] = &["member.id", "member.folder"];

impl Loader {
    pub(super) fn kind(&self, raw: RawKind, kinds: &[String]) -> Checked<Kind> {
        let shape = match raw.shape.as_ref().as_str() {
            "archive" => Shape::Archive,
            "folder" => Shape::Folder,
            "file" => Shape::File,
            other => {
                return Err((
                    raw.shape.span(),
                    format!("{other:?} is not a shape: \"archive\", \"folder\" or \"file\""),
                ));
            }
        };
        if shape == Shape::File && raw.suffix.is_none() && raw.magic.is_none() {
            return Err((raw.shape.span(), "files are told by a \"suffix\" or by \"magic\" bytes".into()));
        }
        if shape != Shape::File && raw.marker.0.is_empty() {
            return Err((
                raw.shape.span(),
                "a \"marker\" is missing: a file inside that marks the kind".into(),
            ));
        }
        let known = |text: &Text| {
            if kinds.contains(text.as_ref()) {
                return Ok(text.as_ref().clone());
            }
            let near = suggest::did_you_mean(text.as_ref(), kinds.iter().map(String::as_str));
            let near = near.map_or_else(String::new, |near| format!("; {near}"));
            Err((text.span(), format!("there is no kind {:?}{near}", text.as_ref())))
        };
        let content = with(&self.server, CONTENT);
        let of_member = with(&content, MEMBER);
        let of_line = with(&content, &["it"]);
        check_facts(&raw)?;
        let has_members = !raw.members.is_empty();
        let log = |text: &Option<Text>| {
            let allowed = if has_members { &of_member } else { &content };
            text.as_ref().map(|text| template(text, allowed)).transpose()
        };
        Ok(Kind {
            shape,
            suffix: raw.suffix,
            marker: raw.marker.0,
            magic: raw.magic.as_ref().map(magic).transpose()?,
            length: raw.length.map(|rule| LengthRule { at: rule.at, plus: rule.plus }),
            companions: raw.companions.iter().map(companion).collect::<Checked<_>>()?,
            brings: raw.brings,
            describe: raw
                .describe
                .into_iter()
                .map(|rule| self.describe_rule(rule))
                .collect::<Checked<_>>()?,
            id: raw.id.as_ref().map(|text| template(text, &content)).transpose()?,
            facts: fact_rules(&raw.facts)?,
            players: raw.players.as_ref().map_or(Ok(PlayersPart::None), players_part)?,
            id_pattern: raw.id_pattern.as_ref().map(pattern).transpose()?,
            members: raw.members.iter().map(known).collect::<Checked<_>>()?,
            place: raw.place.iter().map(|rule| place_rule(rule, &content)).collect::<Checked<_>>()?,
            loads_from: raw.loads_from.iter().map(|rule| self.loads_from(rule)).collect::<Checked<_>>()?,
            register: raw
                .register
                .iter()
                .map(|rule| {
                    let each = rule.each.as_ref().map(known).transpose()?;
                    let allowed = match (&each, &rule.for_each) {
                        (Some(_), _) => &of_member,
                        (None, Some(_)) => &of_line,
                        (None, None) => &content,
                    };
                    rule_of(self, rule, allowed, each)
                })
                .collect::<Checked<_>>()?,
            settings: raw
                .settings
                .into_iter()
                .map(|rule| self.settings(rule, &content))
                .collect::<Checked<_>>()?,
            loaded: log(&raw.loaded)?,
            failed: log(&raw.failed)?,
        })
    }

    fn loads_from(&self, raw: &RawLoadsFrom) -> Checked<LoadsFrom> {
        let folder = template(&raw.folder, &self.server)?;
        Ok(LoadsFrom { folder, always_on: raw.always_on, sub_folders: raw.sub_folders })
    }

    fn describe_rule(&self, raw: RawDescribe) -> Checked<DescribeRule> {
        let file = raw.file.as_ref().clone();
        let span = raw.file.span();
        let form = match raw.form.as_ref().map(|text| text.as_ref().as_str()) {
            Some("json") => DescriptorForm::Json,
            Some("toml") => DescriptorForm::Toml,
            Some("properties") => DescriptorForm::Properties,
            Some("pairs") => DescriptorForm::Pairs,
            Some("lines") => DescriptorForm::Lines,
            Some(other) => return Err((span, format!("{other:?} is not a descriptor's format"))),
            None => match file.rsplit_once('.').map_or("", |(_, suffix)| suffix) {
                "json" => DescriptorForm::Json,
                "toml" => DescriptorForm::Toml,
                "conf" | "properties" => DescriptorForm::Properties,
                "info" => DescriptorForm::Pairs,
                _ => {
                    return Err((
                        span,
                        format!("the name {file:?} does not tell its format; say it with \"as\""),
                    ));
                }
            },
        };
        let mut picks = BTreeMap::new();
        for (what, pick) in [
            ("id", raw.id),
            ("title", raw.title),
            ("about", raw.about),
            ("version", raw.version),
            ("needs", raw.needs),
            ("welcomes", raw.welcomes),
            ("refuses", raw.refuses),
            ("side", raw.side),
            ("after", raw.after),
            ("before", raw.before),
        ] {
            if let Some(pick) = pick {
                picks.insert(what, self.pick(pick, &span)?);
            }
        }
        let platform = raw
            .platform
            .into_iter()
            .map(|(part, pick)| Ok((part, self.pick_with(pick, &span, "range")?)))
            .collect::<Checked<_>>()?;
        let facts = raw
            .facts
            .into_iter()
            .map(|(name, pick)| Ok((name, self.pick(pick, &span)?)))
            .collect::<Checked<_>>()?;
        Ok(DescribeRule { file, form, picks, platform, facts })
    }

    fn pick(&self, raw: RawPick, rule: &Range<usize>) -> Checked<Pick> {
        self.pick_with(raw, rule, "id")
    }

    /// Reads a pick whose pattern, where it has one, must have that group.
    fn pick_with(&self, raw: RawPick, rule: &Range<usize>, group: &str) -> Checked<Pick> {
        let (at, span) = match raw.at {
            Some(text) => {
                let span = if text.span() == (0..0) { rule.clone() } else { text.span() };
                (text.into_inner(), span)
            }
            None => (String::new(), rule.clone()),
        };
        let allowed = with(&self.server, &["it"]);
        Ok(Pick {
            at: Pointer::parse(&at).map_err(|error| (span, error.to_string()))?,
            split: raw.split,
            item: raw.item.as_ref().map(|text| pattern_with(text, group)).transpose()?,
            range: raw.range.as_ref().map(|text| template(text, &allowed)).transpose()?,
            map: raw.map.into_iter().map(|(from, to)| (from, to.into_inner())).collect(),
        })
    }

    /// Reads a settings file. `allowed` is what its templates may name.
    pub(super) fn settings(&self, raw: RawSettings, allowed: &[String]) -> Checked<SettingsFile> {
        let format = self.format(&raw.file, raw.form.as_ref())?;
        let short = if let Some(text) = &raw.short {
            template(text, allowed)?
        } else {
            let name = raw.file.as_ref().rsplit('/').next().unwrap_or_default();
            Template::new(name, allowed).map_err(|why| (raw.file.span(), why))?
        };
        let appears = match raw.appears.as_ref().map(|text| text.as_ref().as_str()) {
            None => false,
            Some("first start") => true,
            Some(other) => {
                let span = raw.appears.as_ref().map_or(0..0, Spanned::span);
                return Err((span, format!("{other:?} is not a time: \"first start\", or leave it out")));
            }
        };
        let keys = raw.keys.into_iter().map(|(at, rule)| {
            let span = rule.span();
            let at = Pointer::parse(&at).map_err(|error| (span.clone(), error.to_string()))?;
            Ok((at, rule.into_inner().read().map_err(|why| (span, why))?))
        });
        let schema_lines = raw.schema_lines.iter().map(schema_line).collect::<Checked<Vec<_>>>()?;
        if let (None, Some(line)) = (&raw.schema, raw.schema_lines.first()) {
            return Err((line.pattern.span(), "\"schema\" names the member whose lines these are".into()));
        }
        Ok(SettingsFile {
            file: template(&raw.file, allowed)?,
            format,
            short,
            title: raw.title,
            defaults: raw.defaults,
            schema: raw.schema,
            schema_lines,
            appears,
            launch: raw.launch,
            open: raw.open,
            live: raw.live.as_ref().map(|live| self.live(live, allowed, LIVE_NAMES)).transpose()?,
            keys: keys.collect::<Checked<_>>()?,
        })
    }
}

fn schema_line(raw: &RawSchemaLine) -> Checked<SchemaLine> {
    let sort = SettingType::of_name(raw.sort.as_ref()).map_err(|why| (raw.sort.span(), why))?;
    Ok(SchemaLine { pattern: pattern_with(&raw.pattern, "key")?, sort })
}

/// Reads a registration of no game. `allowed` is what its templates may name.
pub(crate) fn register_rule(
    raw: &RawRegister,
    allowed: &[String],
    each: Option<String>,
) -> Checked<RegisterRule> {
    rule_of(&Loader::default(), raw, allowed, each)
}

/// Reads a registration. `allowed` is what its templates may name.
pub(super) fn rule_of(
    loader: &Loader,
    raw: &RawRegister,
    allowed: &[String],
    each: Option<String>,
) -> Checked<RegisterRule> {
    let value = |value: &Spanned<toml::Value>| {
        ValueTemplate::new(value.as_ref(), allowed).map_err(|why| (value.span(), why))
    };
    let text = |value: &Spanned<toml::Value>| match value.as_ref() {
        toml::Value::String(text) => Template::new(text, allowed).map_err(|why| (value.span(), why)),
        _ => Err((value.span(), "a numbered item is a text".to_owned())),
    };
    let bare = RawRegister {
        separator: raw.separator.clone(),
        last: raw.last.clone(),
        form: raw.form.clone(),
        create: raw.create.clone(),
        ..RawRegister::default()
    };
    let (place, verb, used) = match raw {
        RawRegister { set: Some(at), to: Some(to), .. } => {
            let used =
                RawRegister { set: raw.set.clone(), to: raw.to.clone(), last: None, separator: None, ..bare };
            (at, RegisterVerb::Set(value(to)?), used)
        }
        RawRegister { row: Some(at), value: Some(row), .. } => {
            let used = RawRegister {
                row: raw.row.clone(),
                value: raw.value.clone(),
                last: None,
                separator: None,
                ..bare
            };
            (at, RegisterVerb::Set(value(row)?), used)
        }
        RawRegister { list: Some(at), item: Some(item), ordered, separator, last, seen_as, .. } => {
            let used = RawRegister {
                list: raw.list.clone(),
                item: raw.item.clone(),
                ordered: *ordered,
                seen_as: raw.seen_as.clone(),
                unlisted: raw.unlisted.clone(),
                ..bare
            };
            let (separator, last) = (separator.clone(), last.clone());
            let seen_as = seen_as.as_ref().map(|text| pattern_with(text, "item")).transpose()?;
            let seen_as = seen_as.map(|pattern| pattern.as_str().to_owned());
            (at, RegisterVerb::Item { item: value(item)?, ordered: *ordered, separator, last, seen_as }, used)
        }
        RawRegister { number: Some(at), item: Some(item), consecutive, .. } => {
            let used = RawRegister {
                number: raw.number.clone(),
                item: raw.item.clone(),
                consecutive: *consecutive,
                last: None,
                separator: None,
                ..bare
            };
            (at, RegisterVerb::Number { item: text(item)?, consecutive: *consecutive }, used)
        }
        RawRegister { block: Some(at), text: Some(text), .. } => {
            let used = RawRegister {
                block: raw.block.clone(),
                text: raw.text.clone(),
                last: None,
                separator: None,
                ..bare
            };
            let name = Template::new("{{ content.id }}", allowed).map_err(|why| (at.span(), why))?;
            (at, RegisterVerb::Block { name, text: template(text, allowed)? }, used)
        }
        _ => {
            let places = [&raw.set, &raw.row, &raw.list, &raw.number, &raw.block];
            let span = places.into_iter().flatten().next().map_or(0..0, Spanned::span);
            return Err((span, REGISTERS.into()));
        }
    };
    // What the verb does not use would be passed over in silence.
    if (RawRegister { each: raw.each.clone(), for_each: raw.for_each.clone(), ..used }) != *raw {
        return Err((place.span(), REGISTERS.into()));
    }
    let place_span = place.span();
    let place = register_place(loader, place, raw, allowed)?;
    let create = head_of(loader, raw, (place.format, place_span))?;
    let for_each = raw.for_each.as_ref().map(|text| text.as_ref().clone());
    Ok(RegisterRule { place, verb, each, for_each, create, loads_unlisted: loads_unlisted(raw)? })
}

/// What a file that is made for an entry begins with.
fn head_of(loader: &Loader, raw: &RawRegister, (format, span): (Format, Range<usize>)) -> Checked<Template> {
    match &raw.create {
        Some(text) => template(text, &loader.server),
        None => Template::new(format.head(), &[]).map_err(|why| (span, why)),
    }
}

/// Whether what has no entry is loaded all the same.
fn loads_unlisted(raw: &RawRegister) -> Checked<bool> {
    match &raw.unlisted {
        None => Ok(false),
        Some(text) if text.as_ref() == "last" => Ok(true),
        Some(text) => {
            let why = "\"unlisted\" is \"last\": what has no entry is loaded all the same, after the others";
            Err((text.span(), why.into()))
        }
    }
}

fn register_place(
    loader: &Loader,
    place: &Text,
    raw: &RawRegister,
    allowed: &[String],
) -> Checked<ConfigPlace> {
    match raw.block {
        // A block stands in the file as a whole.
        Some(_) if !place.as_ref().contains('#') => {
            let whole = Text::new(place.span(), format!("{}#", place.as_ref()));
            loader.place(&whole, raw.form.as_ref(), allowed)
        }
        _ => loader.place(place, raw.form.as_ref(), allowed),
    }
}

const REGISTERS: &str = "this has either \"set\" and \"to\", \"row\" and \"value\", \"list\" and \"item\" (and \"ordered\", \"separator\", \"seen-as\", \
                         \"last\", \"unlisted\"), \"number\" and \"item\" (and \"consecutive\"), or \"block\" and \"text\"";

/// Reads what a file begins with: text, or bytes after `hex:`.
fn magic(text: &Text) -> Checked<Vec<u8>> {
    let wrong = || (text.span(), "write the first bytes as text, or as hex:4b4d…".to_owned());
    let Some(hex) = text.as_ref().strip_prefix("hex:") else { return Ok(text.as_ref().as_bytes().to_vec()) };
    let digits: Vec<char> = hex.chars().collect();
    let byte = |pair: &[char]| u8::from_str_radix(&pair.iter().collect::<String>(), 16).ok();
    digits
        .chunks(2)
        .map(byte)
        .collect::<Option<Vec<u8>>>()
        .filter(|bytes| !bytes.is_empty() && digits.len().is_multiple_of(2))
        .ok_or_else(wrong)
}

/// Entries for each line of a fact need that fact.
fn check_facts(raw: &RawKind) -> Checked<()> {
    let is_known = |name: &str| {
        let described = raw.describe.iter().any(|describe| describe.facts.contains_key(name));
        described || raw.facts.contains_key(name)
    };
    let mut named = raw.register.iter().filter_map(|rule| rule.for_each.as_ref());
    match named.find(|name| !is_known(name.as_ref())) {
        Some(name) => Err((name.span(), format!("{:?} is no fact of this kind", name.as_ref()))),
        None => Ok(()),
    }
}

fn place_rule(raw: &RawPlace, allowed: &[String]) -> Checked<PlaceRule> {
    let take = raw.take.as_ref().map(glob).transpose()?;
    Ok(PlaceRule { take, into: template(&raw.into, allowed)?, also: raw.also, strip: raw.strip })
}

fn fact_rules(raw: &BTreeMap<String, Spanned<RawFact>>) -> Checked<BTreeMap<String, FactRule>> {
    raw.iter().map(|(name, rule)| Ok((name.clone(), fact_rule(rule)?))).collect()
}

fn fact_rule(raw: &Spanned<RawFact>) -> Checked<FactRule> {
    match raw.as_ref() {
        RawFact { only_folder: Some(below), own_name: None, folders: None } => {
            Ok(FactRule::OnlyFolder(below.clone()))
        }
        RawFact { only_folder: None, own_name: Some(text), folders: None } => {
            Ok(FactRule::OwnName(pattern(text)?))
        }
        RawFact { only_folder: None, own_name: None, folders: Some(text) } => {
            Ok(FactRule::Folders(glob(text)?))
        }
        _ => Err((raw.span(), "a fact has one of \"only-folder\", \"own-name\" or \"folders\"".into())),
    }
}

fn companion(text: &Text) -> Checked<String> {
    if text.as_ref().contains("{{ name }}") && !text.as_ref().contains('/') {
        return Ok(text.as_ref().clone());
    }
    Err((text.span(), "a companion is a file's name with {{ name }} in it".into()))
}

fn players_part(text: &Text) -> Checked<PlayersPart> {
    match text.as_ref().as_str() {
        "install" => Ok(PlayersPart::Install),
        "by-side" => Ok(PlayersPart::BySide),
        "download" => Ok(PlayersPart::Download),
        other => {
            let why = format!("{other:?} is none of \"install\", \"by-side\" and \"download\"");
            Err((text.span(), why))
        }
    }
}
