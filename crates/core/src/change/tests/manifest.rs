//! A receipt kept in manifests is the receipt.

use std::{collections::BTreeMap, sync::Arc};

use proptest::prelude::*;

use crate::{
    change::{OwnedEntry, Placed, ReadManifest, Receipt, Settled, StoredReceipt},
    desire::Entry,
    document::{Before, Format, Pointer, Value},
    id::{ContentId, Digest, TreePath},
    route::{Payload, PayloadFile},
};

fn id(text: &str) -> ContentId {
    ContentId::new(text).unwrap()
}

fn path(text: &str) -> TreePath {
    TreePath::new(text).unwrap()
}

fn read(stored: &StoredReceipt, texts: &BTreeMap<Digest, String>) -> Result<Receipt, String> {
    let read = |(id, digest): (&ContentId, &Digest)| {
        ReadManifest::parse(id, texts.get(digest).ok_or("it is missing")?)
    };
    let manifests: Result<Vec<ReadManifest>, String> = stored.manifests.iter().map(read).collect();
    Ok(stored.receipt(manifests?))
}

/// Names with all that paths may hold.
const NAMES: [&str; 7] = ["a", "b.png", "with space", "tab\tin it", "line\nend", "ä", "c\r"];

fn receipt() -> impl Strategy<Value = Receipt> {
    let owner = || prop::sample::select(vec!["a", "b", "c-d", "zz"]);
    let name = || prop::sample::select(NAMES.to_vec());
    let file = (owner(), name(), name(), 0_u64..3, any::<[bool; 4]>());
    let files = prop::collection::vec(file, 0..12);
    let entries = prop::collection::vec((owner(), name()), 0..6);
    let folders = prop::collection::btree_set(name(), 0..4);
    (files, entries, folders).prop_map(|(files, entries, folders)| {
        let mut receipt = Receipt::empty();
        let mut payloads: BTreeMap<ContentId, Payload> = BTreeMap::new();
        for (owner, folder, name, size, [has_payload, has_place, is_told, is_edited]) in files {
            let digest = Digest::of(&[u8::try_from(size).unwrap()]);
            let at = path(&format!("{folder}/{owner}/{name}"));
            if has_payload {
                let to = is_told.then(|| at.clone());
                let file = PayloadFile { path: format!("x\\{name}"), size, digest, to };
                payloads.entry(id(owner)).or_default().files.push(file);
            }
            if has_place {
                let digest = if is_edited { Digest::of(name.as_bytes()) } else { digest };
                Arc::make_mut(&mut receipt.placed).insert(at, Placed { content: id(owner), size, digest });
            }
        }
        receipt.contents = payloads.into_iter().map(|(id, payload)| (id, Settled::new(payload))).collect();
        for (owner, name) in entries {
            receipt.entries.push(OwnedEntry {
                content: id(owner),
                file: path("order.txt"),
                format: Format::Lines,
                pointer: Pointer::root(),
                entry: Entry::Set(Value::Text(name.into())),
                before: Before::Absent { made: 0 },
            });
        }
        receipt.folders.extend(folders.into_iter().map(path));
        receipt.created.insert(path("order.txt"), "# x\n".into());
        receipt
    })
}

proptest! {
    #[test]
    fn what_is_kept_is_what_is_read(receipt in receipt()) {
        let (stored, texts) = receipt.stored();
        let again = StoredReceipt::parse("receipt.json", &stored.text()).unwrap().unwrap();
        prop_assert_eq!(&again, &stored);
        prop_assert_eq!(read(&stored, &texts).unwrap(), receipt);
    }

    #[test]
    fn an_altered_manifest_does_not_end_the_program(
        receipt in receipt(), at in any::<prop::sample::Index>(), byte in any::<u8>()
    ) {
        let (stored, texts) = receipt.stored();
        let Some((digest, text)) = texts.iter().next() else { return Ok(()) };
        let mut bytes = text.clone().into_bytes();
        let at = at.index(bytes.len());
        bytes[at] = byte;
        // It may be read or refused; it must not end the program.
        let altered = String::from_utf8_lossy(&bytes).into_owned();
        read(&stored, &[(*digest, altered)].into()).ok();
    }
}

#[test]
fn dropping_one_of_many_changes_no_manifest_of_the_others() {
    let mut receipt = Receipt::empty();
    for at in 0..50 {
        let owner = id(&format!("m{at}"));
        receipt.contents.insert(owner.clone(), Settled::new(Payload::default()));
        receipt.folders.insert(path(&format!("mods/m{at}")));
        let placed = Placed { content: owner, size: 1, digest: Digest::of(b"1") };
        Arc::make_mut(&mut receipt.placed).insert(path(&format!("mods/m{at}/init.lua")), placed);
    }
    let (_, before) = receipt.stored();
    receipt.contents.remove("m7");
    receipt.folders.remove("mods/m7");
    Arc::make_mut(&mut receipt.placed).remove("mods/m7/init.lua");
    let (stored, after) = receipt.stored();
    assert_eq!(stored.manifests.len(), 49);
    assert!(after.keys().all(|digest| before.contains_key(digest)));
}

#[test]
fn a_receipt_of_the_first_format_has_no_manifests_and_one_of_a_later_format_is_refused() {
    let parse = |text: &str| StoredReceipt::parse("receipt.json", text);
    assert_eq!(parse(&Receipt::empty().text()).unwrap(), None);
    assert!(parse("{\"format\": 3}").unwrap_err().to_string().contains("format 3"));
    assert!(parse("{\"format\": 2, \"colour\": 1}").is_err());
}
