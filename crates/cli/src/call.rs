//! Parsing the command line, and the errors for words that are not understood.

mod trade;

pub(crate) use trade::renamed;

use std::borrow::Cow;
use std::ffi::OsString;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use anyhow::Result;
use clap::ArgMatches;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap_complete::CompleteEnv;
use utter_echo_core::request::Request;

use crate::context::{Command, Context, Program};
use crate::exit::Exit;
use crate::records::Within;
use crate::terminal::streams;

/// Set by a shell that asks for completions.
pub(crate) const ASKED_BY_SHELL: &str = "UTTER_COMPLETE";

/// The commands that take most of the words of the trade.
const COPYING: [&str; 6] = ["copy", "mirror", "move", "verify", "execute", "undo"];

/// A command and its context.
pub(crate) struct Called {
    command: Box<dyn Command>,
    context: Context,
}

/// An invalid call; the error was printed already.
#[derive(Debug)]
pub(crate) struct Wrong;

/// Parses a call; `None` if it was answered already, like a call for help.
pub(crate) fn read(
    program: Program,
    words: impl IntoIterator<Item = OsString>,
) -> Result<Option<Called>, Wrong> {
    let words: Vec<OsString> = words.into_iter().collect();
    let shell = CompleteEnv::with_factory(program.command_line).var(ASKED_BY_SHELL);
    match shell.try_complete(&words, std::env::current_dir().ok().as_deref()) {
        Ok(false) => {}
        Ok(true) => return Ok(None),
        Err(error) => return Err(unparsed(program, &error, || false)),
    }
    let error = match parse(program, words.clone()) {
        Ok(called) => return Ok(Some(called)),
        Err(error) => error,
    };
    if error.use_stderr() {
        let only_one_more = || parse(program, words.into_iter().chain(["x".into()])).is_ok();
        return Err(unparsed(program, &error, only_one_more));
    }
    let _ = writeln!(streams::out(), "{}", error.render().ansi().to_string().trim_end());
    Ok(None)
}

/// Parses a call and prints nothing.
pub(crate) fn parse(
    program: Program,
    words: impl IntoIterator<Item = OsString>,
) -> Result<Called, clap::Error> {
    let words: Vec<OsString> = words.into_iter().collect();
    let command_line = (program.command_line)();
    let gathered = options_first(&command_line, &words);
    let typed = command_line.try_get_matches_from(gathered)?;
    let command = (program.understand)(&typed)?;
    let context = Context::new(program, typed, words);
    Ok(Called { command, context })
}

/// The words with all options before the first path: where several sources are allowed, the parser takes an option
/// between two paths for the end of them.
fn options_first(command_line: &clap::Command, words: &[OsString]) -> Vec<OsString> {
    let name = words.get(1).and_then(|word| word.to_str());
    let command = name.and_then(|name| command_line.find_subcommand(name));
    let takes_several =
        |command: &&clap::Command| command.get_positionals().any(|arg| arg.get_id() == "sources");
    let Some(command) = command.filter(takes_several) else { return words.to_vec() };
    let (mut options, mut paths) = (words[..2].to_vec(), vec![OsString::from("--")]);
    let mut rest = words[2..].iter();
    while let Some(word) = rest.next() {
        if word == "--" {
            break;
        }
        let bytes = word.as_bytes();
        if bytes.len() < 2 || !bytes.starts_with(b"-") {
            paths.push(word.clone());
            continue;
        }
        options.push(word.clone());
        let long = word.to_str().and_then(|word| word.strip_prefix("--"));
        let arg =
            command.get_arguments().find(|arg| arg.get_long().is_some_and(|it| Some(it) == long));
        if arg.is_some_and(|arg| arg.get_action().takes_values() && !arg.is_require_equals_set()) {
            options.extend(rest.next().cloned());
        }
    }
    paths.extend(rest.cloned());
    if paths.len() > 1 {
        options.append(&mut paths);
    }
    options
}

/// The same for the call of a job, made by another command.
pub(crate) fn parse_within(
    words: impl IntoIterator<Item = OsString>,
    within: Within,
    outer: &Context,
) -> Result<Called, clap::Error> {
    let called = parse(outer.program, words)?;
    Ok(Called { context: called.context.within(outer, within), ..called })
}

impl Called {
    /// The parsed arguments.
    pub(crate) fn typed(&self) -> &ArgMatches {
        &self.context.typed
    }

    /// The parsed command, for tests.
    #[cfg(test)]
    pub(crate) fn understood(&self) -> String {
        format!("{:?}", self.command)
    }

    pub(crate) fn run(&self) -> Result<Exit> {
        self.command.run(&self.context)
    }

    /// True if the drives that the call names are mounted for it.
    pub(crate) fn mounts_drives(&self) -> bool {
        let typed = self.typed().subcommand().map(|(_, typed)| typed);
        let asked = typed.and_then(|typed| typed.try_get_one::<bool>("mount").ok().flatten());
        asked.is_some_and(|asked| *asked)
    }

    /// The request to the core, for commands that compare two sides.
    pub(crate) fn request(&self) -> Result<Option<Request>> {
        self.command.request(&self.context)
    }
}

/// Prints what is wrong with a call and what to do next. `only_one_more` tells whether one more word would make it
/// valid.
fn unparsed(program: Program, error: &clap::Error, only_one_more: impl FnOnce() -> bool) -> Wrong {
    let text = error.render().to_string();
    if error.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand {
        streams::emit(text.trim_end());
        return Wrong;
    }
    let plain = text.strip_prefix("error: ").unwrap_or(&text);
    let command = command(program, plain);
    let what = missing(error, only_one_more)
        .or_else(|| unknown(error, command.as_deref()))
        .or_else(|| not_text(error))
        .unwrap_or_else(|| first_paragraph(error, &text));
    // Paths are no words of the trade.
    let is_meant =
        |word: &&String| error.kind() == ErrorKind::InvalidSubcommand || word.starts_with('-');
    // What copying does by itself is no answer to an option of another command.
    let copies = command.as_deref().is_none_or(|command| COPYING.contains(&command));
    let answer = word(error).filter(is_meant).and_then(|word| {
        let elsewhere = || of_other_commands(program, word);
        if copies {
            trade::answer(word).or_else(elsewhere)
        } else {
            elsewhere().or_else(|| trade::answer(word))
        }
    });
    let answer = answer.map(Cow::into_owned);
    let help = match command {
        Some(command) => format!("'utter {command} -h' lists the options"),
        None => "'utter -h' lists the commands".to_owned(),
    };
    let lines: Vec<_> =
        [what].into_iter().chain(answer.or_else(|| similar(error))).chain([help]).collect();
    streams::print_wrong(&lines.join("\n  "));
    Wrong
}

/// The rest of the parser's message is replaced by a shorter one.
fn first_paragraph(error: &clap::Error, text: &str) -> String {
    let text = text.strip_prefix("error: ").unwrap_or(text);
    let text = text.split("\n\n").next().unwrap_or(text).trim_end();
    // "--age <FROM..TO>" is the option; an argument has no name that its user knows, and its value says enough.
    let Some(ContextValue::String(argument)) = error.get(ContextKind::InvalidArg) else {
        return text.to_owned();
    };
    let name = match argument.split([' ', '[', '=']).next() {
        Some(option) if option.starts_with("--") => format!(" for {option}"),
        _ => String::new(),
    };
    text.replacen(&format!(" for '{argument}'"), &name, 1)
}

/// The error of a call that nobody typed, with a suggestion.
pub(crate) fn explained(error: &clap::Error) -> (String, Option<String>) {
    (first_paragraph(error, &error.render().to_string()), similar(error))
}

/// The long name of the option in an error.
pub(crate) fn option_of(error: &clap::Error) -> Option<String> {
    let option = match error.get(ContextKind::InvalidArg)? {
        ContextValue::String(option) => option,
        ContextValue::Strings(options) => options.first()?,
        _ => return None,
    };
    let name = option.strip_prefix("--")?.split([' ', '=', '[']).next()?;
    Some(name.to_owned())
}

/// The command of a call, from the usage in an error or else from the call itself.
fn command(program: Program, text: &str) -> Option<String> {
    let usage = text.split_once("Usage: utter ").map(|(_, usage)| usage.to_owned());
    let called = || std::env::args_os().nth(1).map(|word| word.to_string_lossy().into_owned());
    let command = usage.or_else(called)?.split_whitespace().next()?.to_owned();
    (program.command_line)().find_subcommand(&command).map(|_| command)
}

/// The unknown option or command.
fn word(error: &clap::Error) -> Option<&String> {
    let kind = match error.kind() {
        ErrorKind::UnknownArgument => ContextKind::InvalidArg,
        ErrorKind::InvalidSubcommand => ContextKind::InvalidSubcommand,
        _ => return None,
    };
    match error.get(kind) {
        Some(ContextValue::String(word)) => Some(word),
        _ => None,
    }
}

/// A suggestion.
fn similar(error: &clap::Error) -> Option<String> {
    let kinds =
        [ContextKind::SuggestedArg, ContextKind::SuggestedSubcommand, ContextKind::SuggestedValue];
    let found = kinds.into_iter().find_map(|kind| error.get(kind))?;
    let words = match found {
        ContextValue::String(word) => std::slice::from_ref(word),
        ContextValue::Strings(words) => words,
        _ => return None,
    };
    Some(format!("did you mean '{}'?", words.join("' or '")))
}

/// Unknown option, command or argument.
/// The commands that have an option which another one lacks.
fn of_other_commands(program: Program, word: &str) -> Option<Cow<'static, str>> {
    let long = word.strip_prefix("--")?.split('=').next();
    let command_line = (program.command_line)();
    let has_it =
        |command: &&clap::Command| command.get_arguments().any(|arg| arg.get_long() == long);
    let names: Vec<_> =
        command_line.get_subcommands().filter(has_it).map(clap::Command::get_name).collect();
    let names = (!names.is_empty()).then(|| names.join("', 'utter "))?;
    Some(format!("it is an option of 'utter {names}'").into())
}

fn unknown(error: &clap::Error, command: Option<&str>) -> Option<String> {
    let word = word(error)?;
    Some(match error.kind() {
        ErrorKind::InvalidSubcommand => format!("there is no command '{word}'"),
        _ if word.starts_with('-') => match command {
            Some(command) => format!("'utter {command}' has no option '{word}'"),
            None => format!("there is no option '{word}'"),
        },
        _ => format!(
            "unexpected argument '{word}'\n  put names with spaces, and patterns, in quotes"
        ),
    })
}

/// Only paths can be any bytes.
fn not_text(error: &clap::Error) -> Option<String> {
    let told = "a pattern or another value is not UTF-8\n  in a pattern, '*' and '?' can stand for such characters";
    (error.kind() == ErrorKind::InvalidUtf8).then(|| told.to_owned())
}

/// The paths missing from a call.
fn missing(error: &clap::Error, only_one_more: impl FnOnce() -> bool) -> Option<String> {
    if error.kind() != ErrorKind::MissingRequiredArgument {
        return None;
    }
    let Some(ContextValue::Strings(lacks)) = error.get(ContextKind::InvalidArg) else {
        return None;
    };
    let plain = |lack: &String| lack.trim_matches(['<', '>', '.']).to_lowercase();
    let lacks: Vec<_> = lacks.iter().map(plain).collect();
    Some(match &*lacks {
        // The parser takes the last of several sources for the destination.
        [one] if one == "source" && only_one_more() => "the destination is missing".to_owned(),
        [one] if one.starts_with('-') => format!("{} is needed, too", missing_paths(error)),
        [one] => format!("the {one} is missing"),
        several => format!("the {} are missing", several.join(" and the ")),
    })
}

fn missing_paths(error: &clap::Error) -> String {
    match error.get(ContextKind::InvalidArg) {
        Some(ContextValue::Strings(lacks)) => lacks.join(" and ").replace(['<', '>'], ""),
        _ => String::new(),
    }
}
