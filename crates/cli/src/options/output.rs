//! Output.

use anyhow::Result;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args, Command, ValueEnum, value_parser};

use crate::exit::wrong_call;
use crate::options::keeping::KeepingOptions;
use crate::report::{Form, Format};

/// Of commands that compare or change.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct Output {
    #[command(flatten)]
    pub(crate) shown: ShownOptions,
    /// How to show progress on stderr
    #[arg(long, value_name = "HOW", default_value = "auto", hide_short_help = true)]
    pub(crate) progress: ProgressHow,
    /// Print only problems
    #[arg(long, short)]
    pub(crate) quiet: bool,
    #[command(flatten)]
    pub(crate) keeping: KeepingOptions,
}

/// Of every command.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct ShownOptions {
    /// What to print: text for people, or JSON for programs (see 'utter help json')
    #[arg(long, global = true, value_name = "FORM", default_value = "text", value_parser = without_csv())]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) colors: Colors,
}

/// The formats of a command without a table. CSV is answered by name.
fn without_csv() -> impl TypedValueParser<Value = Format> {
    let values = Format::value_variants().iter().filter_map(ValueEnum::to_possible_value);
    let values =
        values.map(|value| if value.matches("csv", false) { value.hide(true) } else { value });
    PossibleValuesParser::new(values).try_map(|name| Format::from_str(&name, false))
}

/// The command, whose output may be a table.
pub(crate) fn with_csv(command: Command) -> Command {
    command.mut_arg("format", |format| {
        let help =
            "What to print: text for people, JSON for programs (see 'utter help json'), or a table";
        format.help(help).value_parser(value_parser!(Format))
    })
}

#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct Colors {
    /// When to use colours
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_short_help = true
    )]
    pub(crate) color: ColorWhen,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ProgressHow {
    /// A bar on a terminal, else nothing
    Auto,
    /// A bar
    Bar,
    /// A line every ten seconds
    Lines,
    /// Nothing
    None,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ColorWhen {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// Of commands that carry out.
#[derive(Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct Verbose {
    /// Also list every step that was taken
    #[arg(long, short, conflicts_with = "quiet", hide_short_help = true)]
    pub(crate) verbose: bool,
}

/// Of verify.
#[derive(Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct ListingOptions {
    /// List at most this many differences of each kind, and count the rest
    ///
    /// Default: all are listed.
    #[arg(long, value_name = "N", conflicts_with = "quiet", allow_negative_numbers = true)]
    pub(crate) limit: Option<usize>,
    /// Print the command that would make the destination identical
    #[arg(long, conflicts_with = "quiet")]
    pub(crate) suggest: bool,
}

impl Colors {
    /// Applies the choice of colours to everything printed from now on.
    pub(crate) fn settle(&self) {
        let choice = match self.color {
            ColorWhen::Auto => anstream::ColorChoice::Auto,
            ColorWhen::Always => anstream::ColorChoice::AlwaysAnsi,
            ColorWhen::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
    }
}

impl ShownOptions {
    /// The form for a command without a table.
    pub(crate) fn settle(&self) -> Result<Form> {
        if self.format == Format::Csv {
            wrong_call!(
                "--format csv works with 'verify', 'history' and 'status' only\n  use text or json"
            );
        }
        Ok(self.form_with_table())
    }

    /// The form for a command with a table.
    pub(crate) fn form_with_table(&self) -> Form {
        self.colors.settle();
        self.format.into()
    }
}

impl Output {
    /// The form for a command that changes something.
    pub(crate) fn settle(&self, Verbose { verbose }: &Verbose) -> Result<Form> {
        let form = self.shown.settle()?;
        self.refuse_senseless()?;
        Ok(Form { quiet: self.quiet, verbose: *verbose, ..form })
    }

    /// The form for a verification.
    pub(crate) fn form_for_verdict(&self, listing: &ListingOptions) -> Result<Form> {
        if self.shown.format == Format::Csv && self.quiet {
            wrong_call!("--quiet and --format csv exclude each other\n  use only one of them");
        }
        if self.shown.format == Format::Csv && listing.suggest {
            wrong_call!(
                "--suggest and --format csv exclude each other\n  use --format text or json"
            );
        }
        self.refuse_senseless()?;
        self.shown.colors.settle();
        Ok(Form { quiet: self.quiet, ..self.shown.format.into() })
    }

    fn refuse_senseless(&self) -> Result<()> {
        if self.quiet && matches!(self.progress, ProgressHow::Bar | ProgressHow::Lines) {
            wrong_call!("--quiet and --progress exclude each other\n  use only one of them");
        }
        Ok(())
    }
}
