//! A JSON Schema of job files, for editors.

use clap::builder::PossibleValue;
use clap::{Arg, ArgAction, Command};
use schemars::{Schema, json_schema};
use serde_json::{Map, Value, json};

use crate::context::Program;
use crate::jobs::file::{COMMANDS, command};
use crate::jobs::words;
use crate::jobs::words::DESTINATION_SHARED;

/// The schema of the whole file.
pub(crate) fn schema(program: Program) -> Schema {
    let all: Vec<Command> = COMMANDS.map(|does| command(program, does)).into();
    let jobs: Vec<Value> = all.iter().map(job).collect();
    let defaults: Map<String, Value> = all.iter().flat_map(options).collect();
    json_schema!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Job file of utter",
        "type": "object",
        "additionalProperties": false,
        "properties": {
            "variables": {
                "description": "Your own variables, which are used as ${NAME}.",
                "type": "object",
                "additionalProperties": { "type": ["string", "integer"] },
            },
            "defaults": {
                "description": "These options apply to every job whose command has them. A job's own setting takes precedence.",
                "type": "object",
                "additionalProperties": false,
                "properties": defaults,
            },
            "records": {
                "description": "This sets how long records are kept, and their maximum size.",
                "type": "object",
                "additionalProperties": false,
                "properties": { "keep": { "type": "string" }, "at-most": { "type": "string" }, "group": { "type": "string" } },
            },
            "job": {
                "description": "The jobs by name.",
                "type": "object",
                "additionalProperties": { "oneOf": jobs },
            },
        },
    })
}

/// The schema of a job with this command.
fn job(does: &Command) -> Value {
    let mut keys: Map<String, Value> = options(does).collect();
    let texts = json!({ "anyOf": [
        { "type": "string" },
        { "type": "array", "items": { "type": "string" } },
    ] });
    let text = |about: &str| json!({ "type": "string", "description": about });
    let several = does.get_positionals().any(|arg| arg.get_id() == "sources");
    let source = if several { texts.clone() } else { json!({ "type": "string" }) };
    let pair = json!({
        "type": "object",
        "additionalProperties": false,
        "required": ["source", "destination"],
        "properties": { "source": source, "destination": { "type": "string" } },
    });
    let own = [
        ("command", json!({ "const": does.get_name() })),
        ("description", text("This is what the job is for.")),
        ("at", text("The start time, like 'daily 02:30'.")),
        ("source", source.clone()),
        ("destination", json!({ "type": "string" })),
        ("pairs", json!({ "type": "array", "minItems": 1, "items": pair })),
        ("enabled", json!({ "type": "boolean" })),
        ("tags", texts.clone()),
        ("then", texts),
        (DESTINATION_SHARED, json!({ "type": "boolean" })),
    ];
    keys.extend(own.map(|(key, schema)| (key.to_owned(), schema)));
    json!({
        "type": "object",
        "additionalProperties": false,
        "required": ["command"],
        "oneOf": [
            { "required": ["source", "destination"], "not": { "required": ["pairs"] } },
            { "required": ["pairs"] },
        ],
        "properties": keys,
    })
}

/// The options of a command, and their values.
fn options(does: &Command) -> impl Iterator<Item = (String, Value)> + '_ {
    let named = does.get_arguments().filter_map(|arg| Some((arg.get_long()?, arg)));
    let real = named.filter(|(key, _)| words::option(does, key).is_some());
    real.map(|(key, arg)| (key.to_owned(), option(arg)))
}

fn option(arg: &Arg) -> Value {
    let about = arg.get_help().map(ToString::to_string).unwrap_or_default();
    let possible = arg.get_possible_values();
    let names: Vec<&str> = possible.iter().map(PossibleValue::get_name).collect();
    let one = match () {
        () if !arg.get_action().takes_values() => json!({ "type": "boolean" }),
        () if names.is_empty() => json!({ "type": ["string", "number"] }),
        () => json!({ "enum": names }),
    };
    let alone = arg.get_num_args().is_some_and(|count| count.min_values() == 0);
    let mut forms = vec![one.clone()];
    if alone && arg.get_action().takes_values() {
        forms.push(json!({ "type": "boolean" }));
    }
    if matches!(arg.get_action(), ArgAction::Append) {
        forms.push(json!({ "type": "array", "items": one }));
    }
    json!({ "description": about, "anyOf": forms })
}
