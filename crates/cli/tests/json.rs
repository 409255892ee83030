//! Guarantee: every line that any command prints with `--format json` fits the printed schema; each command begins
//! with `head` and ends with one `totals`; every field of the schema is printed by some command, and documented.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::os::unix::ffi::OsStringExt as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

use crate::common::{Room, set_time};
use serde_json::{Map, Value};
use utter_echo_lab::is_root;

/// A name that no text can hold.
const ODD: &[u8] = b"odd-\xff";

fn odd(before: &str) -> OsString {
    OsString::from_vec([before.as_bytes(), ODD].concat())
}

fn schema() -> Value {
    let printed = Room::new().run("help json --schema");
    assert_eq!(printed.code, 0, "{printed:?}");
    serde_json::from_str(&printed.out).unwrap()
}

/// Every field that the schema allows, as "kind.field.field", and every word of its fixed sets.
fn allowed(schema: &Value) -> (BTreeSet<String>, BTreeSet<String>) {
    let (mut fields, mut words) = (BTreeSet::new(), BTreeSet::new());
    for kind in schema["oneOf"].as_array().unwrap() {
        let name = kind["properties"]["kind"]["const"].as_str().unwrap();
        fields.insert(name.to_owned());
        collect(schema, kind, name, &mut fields, &mut words);
    }
    (fields, words)
}

fn collect(
    schema: &Value,
    at: &Value,
    path: &str,
    fields: &mut BTreeSet<String>,
    words: &mut BTreeSet<String>,
) {
    if let Some(reference) = at["$ref"].as_str() {
        let name = reference.rsplit('/').next().unwrap();
        collect(schema, &schema["$defs"][name], path, fields, words);
    }
    for part in ["anyOf", "oneOf", "allOf"] {
        for one in at[part].as_array().into_iter().flatten() {
            collect(schema, one, path, fields, words);
        }
    }
    if path.split('.').count() > 1 {
        words.extend(at["const"].as_str().map(str::to_owned));
        words.extend(
            at["enum"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(Value::as_str)
                .map(str::to_owned),
        );
    }
    for (field, inner) in at["properties"].as_object().into_iter().flatten() {
        if field != "kind" {
            let path = format!("{path}.{field}");
            fields.insert(path.clone());
            collect(schema, inner, &path, fields, words);
        }
    }
}

fn fields_of(line: &Map<String, Value>, path: &str, seen: &mut BTreeSet<String>) {
    seen.insert(path.to_owned());
    for (field, value) in line.iter().filter(|(field, _)| *field != "kind") {
        let path = format!("{path}.{field}");
        match value {
            Value::Object(inner) => fields_of(inner, &path, seen),
            _ => _ = seen.insert(path),
        }
    }
}

/// What all calls together printed.
struct Seen {
    validator: jsonschema::Validator,
    fields: BTreeSet<String>,
}

impl Seen {
    /// Runs a line, of which `ODD` stands for a name that no text can hold.
    fn run(&mut self, room: &Room, line: &str) -> Vec<Value> {
        let words = line.split(' ').map(|word| match word.split_once("ODD") {
            Some((before, after)) => {
                let mut word = odd(before);
                word.push(after);
                word
            }
            None => word.into(),
        });
        let mut command = room.command("");
        let output = command.args(words).arg("--format=json").output().unwrap();
        let out = String::from_utf8(output.stdout.clone()).unwrap();
        let lines: Vec<Value> =
            out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        let kinds: Vec<_> = lines.iter().map(|line| line["kind"].as_str().unwrap()).collect();
        assert_eq!(kinds.first(), Some(&"head"), "{line}: {output:?}");
        assert_eq!(kinds.last(), Some(&"totals"), "{line}: {output:?}");
        let all = |kind: &str| kinds.iter().filter(|other| **other == kind).count();
        // What jobs do is told in between as by themselves.
        assert!(
            all("totals") == 1 || ["run ", "history "].iter().any(|w| line.starts_with(w)),
            "{line}"
        );
        // A past run that could not be carried out has no totals.
        let is_past = line.starts_with("history ") && all("totals") < all("head");
        assert!(is_past || all("totals") == all("head"), "{line}");
        for line in &lines {
            let wrong: Vec<_> = self.validator.iter_errors(line).map(|e| e.to_string()).collect();
            assert!(wrong.is_empty(), "{line}: {wrong:?}");
            let kind = line["kind"].as_str().unwrap();
            fields_of(line.as_object().unwrap(), kind, &mut self.fields);
        }
        lines
    }
}

/// Puts the last run of a job back to long ago.
fn overdue(room: &Room, job: &str) {
    let index = room.path("state/utter-echo/records/index");
    let text = fs::read_to_string(&index).unwrap();
    let of_job = format!("\"job\":{{\"name\":\"{job}\"");
    let lines = text.lines().map(|line| match line.split_once("\"began\":\"20") {
        Some((before, after)) if line.contains(&of_job) => format!("{before}\"began\":\"19{after}"),
        _ => line.to_owned(),
    });
    fs::write(index, lines.collect::<Vec<_>>().join("\n") + "\n").unwrap();
}

fn populated() -> Room {
    let room = Room::new()
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/tide.csv", "1,2,3")
        .with("saltmere/moved/logbook.csv", "lit at dusk, out at dawn")
        .with("keeper/tide.csv", "1,2")
        .with("keeper/newer.csv", "written here");
    let to = |name: &str, odd: &OsStr| room.path(name).join(odd);
    fs::write(to("saltmere", &odd("")), "fog").unwrap();
    fs::hard_link(to("saltmere", &odd("")), to("saltmere", &odd("z"))).unwrap();
    fs::create_dir(to("saltmere", &odd("folder"))).unwrap();
    fs::write(to("saltmere", &odd("folder")).join("in it"), "horn").unwrap();
    fs::create_dir(to("saltmere", &odd("new"))).unwrap();
    fs::write(to("saltmere", &odd("new")).join("tune.wav"), "a tune of its own").unwrap();
    fs::create_dir(to("keeper", &odd("old"))).unwrap();
    fs::write(to("keeper", &odd("old")).join("tune.wav"), "a tune of its own").unwrap();
    for folder in ["saltmere", "keeper"] {
        let inner = if folder == "saltmere" { odd("new") } else { odd("old") };
        set_time(&to(folder, &inner).join("tune.wav"), 1_000_000_000);
        set_time(&to(folder, &inner), 1_000_000_000);
    }
    room
}

#[test]
fn every_line_fits_the_schema_and_every_field_is_printed() {
    let schema = schema();
    let (allowed, _) = allowed(&schema);
    let validator = jsonschema::validator_for(&schema).unwrap();
    let mut seen = Seen { validator, fields: BTreeSet::new() };
    let room = populated();
    fs::create_dir(room.path("").join(odd("place"))).unwrap();
    fs::copy(room.path("saltmere/lens.svg"), room.path("").join(odd("file"))).unwrap();

    seen.run(&room, "verify --suggest saltmere keeper");
    seen.run(&room, "verify --limit 0 --exclude *.csv saltmere keeper");
    seen.run(&room, "explain --exclude odd-* --only *.csv saltmere");
    seen.run(&room, "explain --exclude odd-* saltmere ODDfolder/in nowhere");
    seen.run(&room, "mirror --dry-run --removal-limit 0 saltmere keeper");
    seen.run(&room, "mirror --dry-run --waive nesting --save-plan planODD saltmere keeper");
    seen.run(&room, "execute --dry-run planODD");
    seen.run(&room, "mirror --yes --waive nesting --set-aside asideODD saltmere keeper");
    room.write("attic/trunk/letter", "dear keeper");
    let moved = seen.run(&room, "move --steps all,-rename attic loft");
    assert!(moved.iter().any(|line| line["side"] == "source"), "{moved:?}");
    seen.run(&room, "copy placeODD fileODD inODD");
    seen.run(&room, "verify --sample 100% saltmere keeper");
    let runs = seen.run(&room, "undo");
    assert_eq!(runs[1]["state"], "complete");
    // An entry that cannot be made: a problem with its path.
    fs::create_dir(room.path("keeper").join(odd("in-the-way"))).unwrap();
    fs::write(room.path("keeper").join(odd("in-the-way")).join("x"), "x").unwrap();
    fs::write(room.path("saltmere").join(odd("in-the-way")), "file").unwrap();
    seen.run(&room, "copy saltmere keeper");
    // What is displaced in a place with such a name, and then a run that cannot be read.
    fs::write(room.path("").join(odd("in")).join("extra"), "x").unwrap();
    let line = "mirror --yes --waive nesting,removals --set-aside aside2 saltmere inODD";
    seen.run(&room, line);
    seen.run(&room, "undo");
    let run = room
        .list("aside2")
        .into_iter()
        .find_map(|name| Some(name.strip_suffix(".notes")?.to_owned()));
    let notes = room.path("aside2").join(run.unwrap() + ".notes");
    let mut bytes = fs::read(&notes).unwrap();
    bytes[20] ^= 0xff;
    fs::write(&notes, bytes).unwrap();
    let runs = seen.run(&room, "undo");
    assert!(runs.iter().any(|run| run["state"] == "unreadable"), "{runs:?}");
    seen.run(&room, "drives");
    let job = "[job.papers]\ndescription = \"papers\"\ncommand = \"copy\"\nsource = \"loft\"\ndestination = \"x\"\nat = \"hourly\"";
    fs::write(room.path("").join(odd("jobs")), job).unwrap();
    fs::set_permissions(room.path("").join(odd("jobs")), fs::Permissions::from_mode(0o644))
        .unwrap();
    seen.run(&room, "run --all --jobs jobsODD");
    seen.run(&room, "schedule --jobs jobsODD --install --into unitsODD papers");
    // A run in a folder of such a name, and a record of each.
    room.run("copy nowhere x");
    fs::create_dir(room.path("").join(odd("here"))).unwrap();
    let mut there = room.command("copy --inside ../saltmere y");
    assert!(
        there
            .current_dir(room.path("").join(odd("here")))
            .output()
            .unwrap()
            .status
            .code()
            .is_some()
    );
    let runs = seen.run(&room, "history");
    for run in runs.iter().filter_map(|run| run["run"].as_u64()) {
        seen.run(&room, &format!("history {run}"));
    }
    seen.run(&room, "history --path keeper/newODD/tune.wav");
    seen.run(&room, "history --path x/trunk/letter");
    overdue(&room, "papers");
    seen.run(&room, "jobs --jobs jobsODD");
    seen.run(&room, "status --jobs jobsODD");
    if is_root() {
        let point = room.path("").join(odd("mounted"));
        fs::create_dir(&point).unwrap();
        let mount = |words: &[&OsStr]| Command::new("mount").args(words).status().unwrap();
        let (kind, device) = ([OsStr::new("-t"), OsStr::new("tmpfs")], odd("device"));
        assert!(mount(&[kind[0], kind[1], &device, point.as_os_str()]).success());
        seen.run(&room, "drives mountedODD");
        // A drive within the source.
        let inner = room.path("saltmere").join(odd("inner"));
        fs::create_dir(&inner).unwrap();
        assert!(mount(&[OsStr::new("--bind"), point.as_os_str(), inner.as_os_str()]).success());
        let noted = seen.run(&room, "copy --dry-run saltmere new");
        assert!(noted.iter().any(|line| line["code"] == "mount-included"), "{noted:?}");
        assert!(Command::new("umount").arg(&inner).status().unwrap().success());
        assert!(Command::new("umount").arg(&point).status().unwrap().success());
    }
    let for_root =
        ["drive.mounted_at_base64", "drive.device_base64", "note.path", "note.path_base64"];
    let unseen: Vec<_> = allowed
        .difference(&seen.fields)
        .filter(|field| is_root() || !for_root.contains(&field.as_str()))
        .collect();
    assert!(unseen.is_empty(), "nothing provoked {unseen:?}");
    let unknown: Vec<_> = seen.fields.difference(&allowed).collect();
    assert!(unknown.is_empty(), "not in the schema: {unknown:?}");
}

#[test]
fn the_documentation_knows_every_kind_field_and_word() {
    let schema = schema();
    let (fields, words) = allowed(&schema);
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/json.md");
    let page = fs::read_to_string(page).unwrap();
    let page = page.split("## Saved plans").next().unwrap();
    let names = fields.iter().flat_map(|field| field.split('.'));
    let plain = names.filter(|name| !name.ends_with("_base64")).map(str::to_owned);
    let unknown: BTreeSet<_> =
        plain.chain(words).filter(|name| !page.contains(&format!("`{name}`"))).collect();
    assert!(unknown.is_empty(), "docs/json.md does not know {unknown:?}");
    let kinds = page.lines().filter_map(|line| line.strip_prefix("| `")?.split('`').next());
    let kinds: BTreeSet<_> = kinds.map(str::to_owned).collect();
    let real = fields.iter().filter(|field| !field.contains('.')).cloned().collect();
    assert_eq!(kinds, real, "kinds in docs/json.md");
    assert!(page.contains(&format!("which is now **{}**", 3)), "the version");
}

#[test]
fn quiet_prints_only_problems() {
    let room =
        Room::new().with("saltmere/lens.svg", "<svg/>").with("keeper/lens.svg/x", "a folder");
    let ran = room.run("copy --quiet --format json saltmere keeper");
    assert_eq!(ran.code, 3, "{ran:?}");
    let lines: Vec<Value> =
        ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 1, "{ran:?}");
    assert_eq!((&lines[0]["kind"], &lines[0]["path"]), (&"problem".into(), &"lens.svg".into()));
    let refused = room.run("mirror --quiet --removal-limit 0 saltmere keeper");
    assert_eq!((refused.code, &*refused.out), (4, ""), "{refused:?}");
    assert!(
        refused.err.starts_with("utter: the guard 'removals' refuses the plan: "),
        "{refused:?}"
    );
    let differs = room.run("verify --quiet saltmere keeper");
    assert_eq!((differs.code, &*differs.out, &*differs.err), (1, "", ""));
}
