//! Reading one job.

use std::collections::HashSet;
use std::ffi::OsString;
use std::ops::Range;
use std::path::PathBuf;

use clap::Command;
use toml_edit::{Item, Key, TableLike, Value};

use crate::call;
use crate::exit::WrongCall;
use crate::jobs::expand::Expander;
use crate::jobs::file::{COMMANDS, Job, JobFile, command, settings};
use crate::jobs::spot::{nearest, wrong_file};
use crate::jobs::words::{self, DESTINATION_SHARED, OWN, Setting};
use crate::placeholders::Placeholders;
use crate::schedule::{NoTime, When};

impl JobFile {
    /// Checks the jobs that run after one: each must exist, without circles. One that cannot be read is reported when
    /// its turn comes.
    pub(crate) fn check_order(&self, job: &Job) -> Result<(), WrongCall> {
        let mut chain = vec![job.name.clone()];
        self.check_below(job, &mut chain, &mut HashSet::new())
    }

    /// `seen`: jobs below which all is well.
    fn check_below(
        &self,
        job: &Job,
        chain: &mut Vec<String>,
        seen: &mut HashSet<String>,
    ) -> Result<(), WrongCall> {
        for name in
            job.then.iter().filter(|name| !seen.contains(*name)).cloned().collect::<Vec<_>>()
        {
            let name = &name;
            chain.push(name.clone());
            if chain[..chain.len() - 1].contains(name) {
                let what =
                    format!("has jobs that start each other in a circle: {}", chain.join(", "));
                return Err(wrong_file(self.path(), &what, "remove one of them from its 'then'"));
            }
            match self.job(name) {
                Ok(next) => self.check_below(&next, chain, seen)?,
                Err(_) if self.find(name).is_ok() => {}
                Err(_) => return Err(self.follows_nothing(job, name)),
            }
            seen.insert(name.clone());
            chain.pop();
        }
        Ok(())
    }

    /// Another job names it, and it does not exist.
    fn follows_nothing(&self, job: &Job, name: &str) -> WrongCall {
        let table = self.find(&job.name).ok().and_then(|(_, item)| item.as_table_like());
        let key = table.and_then(|table| table.get_key_value("then"));
        let at = key.and_then(|(key, _)| key.span()).unwrap_or(0..0);
        let what = format!("'then' of job '{}' names no job: '{name}'", job.name);
        let advice = nearest(name, self.names(), "'utter jobs' lists those that the file has");
        self.source.wrong(&at, &what, &advice)
    }

    /// The name of a job, and what it holds.
    pub(crate) fn find(&self, name: &str) -> Result<(&Key, &Item), WrongCall> {
        let jobs = self.document.get("job").and_then(Item::as_table_like);
        jobs.and_then(|jobs| jobs.get_key_value(name)).ok_or_else(|| {
            let what = format!("has no job '{name}'");
            let advice = nearest(name, self.names(), "'utter jobs' lists those that it has");
            wrong_file(self.path(), &what, &advice)
        })
    }

    /// A job by its name.
    pub(crate) fn job(&self, name: &str) -> Result<Job, WrongCall> {
        let (key, item) = self.find(name)?;
        let at = key.span().unwrap_or(0..0);
        let Some(table) = item.as_table_like() else {
            let what = format!("job '{name}' must be a table");
            return Err(self.source.wrong(&at, &what, &format!("write [job.{name}]")));
        };
        let placeholders = Placeholders::new(name, &self.now);
        JobReading { file: self, name, placeholders, at, settings: settings(table) }.job()
    }
}

impl JobFile {
    /// The words of a command with the file's defaults alone, for a job that cannot be read.
    pub(crate) fn defaults_alone(&self) -> Result<Vec<OsString>, WrongCall> {
        let does = command(self.program, "copy");
        let (name, settings) = ("", Vec::new());
        let placeholders = Placeholders::new(name, &self.now);
        let reading = JobReading { file: self, name, placeholders, at: 0..0, settings };
        let mut words = vec![OsString::from(does.get_name())];
        words.extend(reading.options(&does)?);
        words.extend(["--", "/", "/"].map(OsString::from));
        Ok(words)
    }
}

/// A job being read.
pub(super) struct JobReading<'f> {
    pub(super) file: &'f JobFile,
    pub(super) name: &'f str,
    placeholders: Placeholders,
    /// The position of its name.
    pub(super) at: Range<usize>,
    pub(super) settings: Vec<Setting<'f>>,
}

impl JobReading<'_> {
    pub(super) fn job(&self) -> Result<Job, WrongCall> {
        let renamed = self
            .settings
            .iter()
            .find(|setting| !OWN.contains(&setting.key) && call::renamed(setting.key).is_some());
        if let Some(setting) = renamed {
            return Err(words::unknown(&self.file.source, setting, None));
        }
        let does = self.command()?;
        let mut pairs = Vec::new();
        if let Some(setting) = self.setting("pairs") {
            for pair in self.pairs(setting)? {
                pairs.push(self.places(&does, &pair, &setting.at)?);
            }
        } else {
            pairs.push(self.places(&does, &self.settings, &self.at)?);
        }
        let options = self.options(&does)?;
        let calls = pairs.into_iter().map(|places| {
            let mut words = vec![OsString::from(does.get_name())];
            words.extend(options.iter().cloned());
            words.push("--".into());
            words.extend(places.into_iter().map(OsString::from));
            words
        });
        let job = Job {
            name: self.name.to_owned(),
            description: self.text("description")?,
            at: self.when()?,
            enabled: self.switch("enabled")?.unwrap_or(true),
            tags: self.texts("tags")?,
            then: self.texts("then")?,
            shares_destination: self.switch(DESTINATION_SHARED)?.unwrap_or(false),
            calls: calls.collect(),
        };
        job.calls.iter().try_for_each(|words| self.check_call(words))?;
        Ok(job)
    }

    fn wrong(&self, at: &Range<usize>, what: &str, advice: &str) -> WrongCall {
        self.file.source.wrong(at, what, advice)
    }

    fn setting(&self, key: &str) -> Option<&Setting<'_>> {
        self.settings.iter().find(|setting| setting.key == key)
    }

    fn expand(&self, text: (&str, &Range<usize>)) -> Result<String, WrongCall> {
        self.expander(true).expand(text)
    }

    fn expander(&self, fills: bool) -> Expander<'_> {
        let JobFile { variables, source, .. } = self.file;
        Expander { variables, placeholders: &self.placeholders, source, fills }
    }

    fn command(&self) -> Result<Command, WrongCall> {
        let all = "the command of a job is copy, mirror, move or verify";
        let Some(setting) = self.setting("command") else {
            let what = format!("job '{}' has no command", self.name);
            return Err(self.wrong(
                &self.at,
                &what,
                "write command = \"mirror\", or copy, move or verify",
            ));
        };
        let does = self.text("command")?.unwrap_or_default();
        if !COMMANDS.contains(&&*does) {
            let advice = nearest(&does, COMMANDS.into_iter(), all);
            return Err(self.wrong(
                &setting.value_at(),
                &format!("'{does}' is not a command for jobs"),
                &advice,
            ));
        }
        Ok(command(self.file.program, &does))
    }

    fn text(&self, key: &str) -> Result<Option<String>, WrongCall> {
        let Some(setting) = self.setting(key) else { return Ok(None) };
        let Item::Value(Value::String(text)) = setting.value else {
            let what = format!("'{key}' takes a text");
            return Err(self.wrong(&setting.value_at(), &what, &format!("write {key} = \"…\"")));
        };
        self.expand((text.value(), &setting.value_at())).map(Some)
    }

    fn when(&self) -> Result<Option<When>, WrongCall> {
        let Some(text) = self.text("at")? else { return Ok(None) };
        let at = self.setting("at").map_or_else(|| self.at.clone(), Setting::value_at);
        let when = text.parse().map_err(|error: NoTime| {
            let told = error.to_string();
            let (what, advice) = told.split_once("\n  ").unwrap_or((&told, ""));
            self.wrong(&at, what, advice)
        });
        when.map(Some)
    }

    fn switch(&self, key: &str) -> Result<Option<bool>, WrongCall> {
        let Some(setting) = self.setting(key) else { return Ok(None) };
        let Item::Value(Value::Boolean(on)) = setting.value else {
            let what = format!("'{key}' is either true or false");
            return Err(self.wrong(&setting.value_at(), &what, &format!("write {key} = true")));
        };
        Ok(Some(*on.value()))
    }

    /// One string or a list of strings.
    fn texts(&self, key: &str) -> Result<Vec<String>, WrongCall> {
        self.setting(key).map_or_else(|| Ok(Vec::new()), |setting| self.texts_of(setting))
    }

    fn texts_of(&self, setting: &Setting<'_>) -> Result<Vec<String>, WrongCall> {
        let (key, at) = (setting.key, setting.value_at());
        let wrong = |at: &Range<usize>| {
            let advice = format!("write {key} = \"…\" or {key} = [\"…\", \"…\"]");
            self.wrong(at, &format!("'{key}' takes a text, or a list of texts"), &advice)
        };
        let one = |value: &Value| {
            let at = value.span().unwrap_or_else(|| at.clone());
            let Value::String(text) = value else { return Err(wrong(&at)) };
            self.expand((text.value(), &at))
        };
        match setting.value {
            Item::Value(Value::Array(several)) => several.iter().map(one).collect(),
            Item::Value(value) => Ok(vec![one(value)?]),
            _ => Err(wrong(&setting.at)),
        }
    }

    /// A list of pairs, each with its own settings.
    fn pairs<'s>(&self, setting: &'s Setting<'_>) -> Result<Vec<Vec<Setting<'s>>>, WrongCall> {
        let form = "write pairs = [{ source = \"…\", destination = \"…\" }, …]";
        if let Some(both) = self.setting("source").or(self.setting("destination")) {
            let what = format!("'{}' and 'pairs' exclude each other", both.key);
            return Err(self.wrong(&both.at, &what, "leave out one of them"));
        }
        let tables: Option<Vec<&dyn TableLike>> = match setting.value {
            Item::Value(Value::Array(all)) => {
                all.iter().map(|one| one.as_inline_table().map(|table| table as _)).collect()
            }
            Item::ArrayOfTables(all) => Some(all.iter().map(|table| table as _).collect()),
            _ => None,
        };
        let tables = tables.filter(|tables| !tables.is_empty());
        let tables = tables.ok_or_else(|| {
            self.wrong(&setting.value_at(), "'pairs' takes a list of places", form)
        })?;
        let pairs: Vec<_> = tables.into_iter().map(settings).collect();
        let odd = |one: &&Setting<'_>| !["source", "destination"].contains(&one.key);
        match pairs.iter().flatten().find(odd) {
            Some(other) => {
                let what = format!("a pair has no '{}'", other.key);
                Err(self.wrong(&other.at, &what, form))
            }
            None => Ok(pairs),
        }
    }

    /// The paths in these settings.
    fn places(
        &self,
        does: &Command,
        among: &[Setting<'_>],
        here: &Range<usize>,
    ) -> Result<Vec<PathBuf>, WrongCall> {
        let mut places = Vec::new();
        let takes_several = does.get_positionals().any(|arg| arg.get_id() == "sources");
        for key in ["source", "destination"] {
            let Some(setting) = among.iter().find(|setting| setting.key == key) else {
                let what = format!("job '{}' has no {key}", self.name);
                return Err(self.wrong(here, &what, &format!("write {key} = \"…\"")));
            };
            let texts = self.texts_of(setting)?;
            let is_right = match texts.len() {
                1 => true,
                0 => false,
                _ => key == "source" && takes_several,
            };
            if !is_right {
                let (name, count) = (does.get_name(), texts.len());
                let what = format!("{name} takes one {key}, but {count} are given");
                let advice =
                    "for several, write pairs = [{ source = \"…\", destination = \"…\" }, …]";
                return Err(self.wrong(&setting.value_at(), &what, advice));
            }
            places.extend(texts.iter().map(|text| words::path_in(&self.file.folder, text)));
        }
        Ok(places)
    }

    /// The arguments of all options; the job's own replace the defaults.
    fn options(&self, does: &Command) -> Result<Vec<OsString>, WrongCall> {
        let is_own = |key: &str| self.settings.iter().any(|setting| setting.key == key);
        let defaults = self.file.defaults();
        let defaults = defaults
            .iter()
            .filter(|setting| !is_own(setting.key) && words::option(does, setting.key).is_some());
        let own = self.settings.iter().filter(|setting| !OWN.contains(&setting.key));
        let mut all = Vec::new();
        for setting in defaults.chain(own) {
            let Some(arg) = words::option(does, setting.key) else {
                return Err(words::unknown(&self.file.source, setting, Some(does)));
            };
            let expand = |text: (&str, &Range<usize>)| match setting.key {
                // They have placeholders of their own, by which old logs are found.
                "log" | "metrics" => self.expander(false).expand(text),
                _ => self.expand(text),
            };
            let (source, folder) = (&self.file.source, &*self.file.folder);
            all.extend(words::words_of(source, folder, setting, arg, &expand)?);
        }
        Ok(all)
    }

    /// Parses the command line, and reports errors with the position in the file.
    fn check_call(&self, words: &[OsString]) -> Result<(), WrongCall> {
        let line = [OsString::from("utter")].into_iter().chain(words.iter().cloned());
        let Err(error) = call::parse(self.file.program, line) else { return Ok(()) };
        let key = call::option_of(&error);
        let defaults = self.file.defaults();
        let mut all = self.settings.iter().chain(&defaults);
        let setting = all.find(|setting| key.as_deref() == Some(setting.key));
        let at = setting.map_or_else(|| self.at.clone(), Setting::value_at);
        let (told, similar) = call::explained(&error);
        let (what, more) = told.split_once('\n').unwrap_or((&told, ""));
        let advice = similar.unwrap_or_else(|| more.trim().to_owned());
        Err(self.wrong(&at, what, &advice))
    }
}
