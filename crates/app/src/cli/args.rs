//! What can be typed.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use velocitas_lab::vary::Part;
use velocitas_lab::{Keep, LEAST_KEPT};
use velocitas_record::LabTime;

use crate::times::{moment, span};

/// A full-screen laboratory for fixed-tick movement netcode.
#[derive(Debug, Parser)]
#[command(
    version,
    args_conflicts_with_subcommands = true,
    after_help = "Without a course the one in the working folder is opened if there is just one, else the demo. \
    Logs are written to the file that VELOCITAS_LOG names."
)]
pub(super) struct Args {
    /// The course (.course.toml), take (.take) or record (.record) to open, or - for standard input; the only one of the working folder, or the demo, if none is given
    pub(super) course: Option<PathBuf>,
    /// Draw with plain ASCII characters only
    #[arg(long)]
    pub(super) ascii: bool,
    /// How much to keep for looking back, as time or memory such as 10min or 2GB; the oldest goes first
    #[arg(long, value_parser = keep, default_value = "512MB")]
    pub(super) keep: Keep,
    /// Another seed than the course's
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// Run to this moment first and stop there, such as 0:31.4 or 31.4s
    #[arg(long, value_parser = moment)]
    pub(super) at: Option<LabTime>,
    /// Whom to look at first; the first of the cast if none is given
    #[arg(long)]
    pub(super) entity: Option<String>,
    #[command(subcommand)]
    pub(super) task: Option<Task>,
}

impl Args {
    /// Every file that was named to be read.
    pub(super) fn files(&self) -> Vec<PathBuf> {
        match &self.task {
            None => self.course.iter().cloned().collect(),
            Some(Task::Run(task)) => task.course.iter().cloned().collect(),
            Some(Task::Chart(task)) => task.course.iter().cloned().collect(),
            Some(Task::Vet(task)) => task.files.iter().chain(&task.track).cloned().collect(),
            Some(Task::Check(task)) => task.courses.iter().chain(&task.against).cloned().collect(),
            Some(Task::Compare(task)) => vec![task.a.clone(), task.b.clone()],
            Some(Task::Guard(task)) => task.course.iter().cloned().collect(),
            Some(Task::Vary(task)) => task.course.iter().chain(&task.merge).cloned().collect(),
            Some(Task::Diagnose(task)) => task.course.iter().cloned().collect(),
            Some(Task::New(_)) => Vec::new(),
        }
    }
}

/// What can be done without a screen.
#[derive(Debug, Subcommand)]
pub(super) enum Task {
    /// Run a course without a screen and report figures
    Run(RunTask),
    /// Run a course and draw a chart of it
    Chart(ChartTask),
    /// Check gaits and courses; try how gaits feel and attack their limits
    Vet(VetTask),
    /// Run courses over seeds and hold them against their budgets, for a pipeline
    Check(CheckTask),
    /// Hold two courses, takes or reports against each other: what came out otherwise, and where they part
    Compare(CompareTask),
    /// Tell how near the honest come to the guard's limits, and what members of a course could gain by cheating
    Guard(GuardTask),
    /// Run a course with some of its settings varied, and tell what each value costs
    Vary(VaryTask),
    /// Find the worst trouble of a stretch and what would cure it, by trying
    Diagnose(DiagnoseTask),
    /// Make a folder with a gait and a course to begin with
    New(NewTask),
}

/// `velocitas vet`.
#[derive(Debug, ClapArgs)]
pub(super) struct VetTask {
    /// Gaits (.gait) and courses (.course.toml), a folder with some, or - for standard input
    #[arg(required = true)]
    pub(super) files: Vec<PathBuf>,
    /// How to report
    #[arg(long, value_enum, default_value_t = Report::Text)]
    pub(super) report: Report,
    /// Check only: do not try how gaits feel, nor attack their limits
    #[arg(long)]
    pub(super) check: bool,
    /// The seed of the attack
    #[arg(long, default_value_t = 1)]
    pub(super) seed: u64,
    /// Starts of the attack for each direction and window: more find more
    #[arg(long, default_value_t = 9, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub(super) restarts: u32,
    /// Run this input track (.track.json) instead of attacking, and report how fast it led
    #[arg(long)]
    pub(super) track: Option<PathBuf>,
    /// Where tracks that exceed a limit are written; beside the gait if not given
    #[arg(long)]
    pub(super) save: Option<PathBuf>,
}

/// `velocitas check`.
#[derive(Debug, ClapArgs)]
pub(super) struct CheckTask {
    /// Courses (.course.toml), or folders with some in them
    #[arg(required = true)]
    pub(super) courses: Vec<PathBuf>,
    /// How much virtual time each run lasts, such as 30s; what the course says if not given
    #[arg(long = "for", value_parser = span)]
    pub(super) lasts: Option<LabTime>,
    /// With how many seeds each course is run; what the course says if not given
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub(super) seeds: Option<u32>,
    /// The first seed; the course's if not given
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// How many runs at once; as many as there are cores if 0
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u16).range(0..=1024))]
    pub(super) jobs: u16,
    /// Tell of every limit, those that were kept too
    #[arg(long)]
    pub(super) all: bool,
    /// Write everything measured as JSON to this file, or - for standard output
    #[arg(long, value_name = "FILE")]
    pub(super) json: Option<PathBuf>,
    /// Write the results as JUnit XML to this file, or - for standard output
    #[arg(long, value_name = "FILE")]
    pub(super) junit: Option<PathBuf>,
    /// Fail on what became worse than in this report, which --json wrote
    #[arg(long, value_name = "FILE")]
    pub(super) against: Option<PathBuf>,
    /// By how much it may become worse
    #[arg(long, value_name = "SHARE", default_value = "10%", value_parser = share, requires = "against")]
    pub(super) worse: f64,
}

/// `velocitas guard`.
#[derive(Debug, ClapArgs)]
pub(super) struct GuardTask {
    /// The course (.course.toml), or - for standard input; the demo if not given
    pub(super) course: Option<PathBuf>,
    /// How much virtual time each run of the honest lasts, such as 10min; 60s if not given
    #[arg(long = "for", value_parser = span)]
    pub(super) lasts: Option<LabTime>,
    /// With how many seeds the course is run, and every cheat is tried
    #[arg(long, default_value_t = 2, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub(super) seeds: u32,
    /// The first seed; the course's if not given
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// How many runs at once; as many as there are cores if 0
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u16).range(0..=1024))]
    pub(super) jobs: u16,
    /// How many mixtures of cheats are tried of each member that is attacked, beyond every cheat by itself
    #[arg(long, default_value_t = 32, value_parser = clap::value_parser!(u32).range(0..=100_000))]
    pub(super) search: u32,
    /// Cheats that the course lives with, such as drift,tireless: what they gain unanswered is said, and is no finding
    #[arg(long, value_delimiter = ',')]
    pub(super) allow: Vec<String>,
    /// Write the slack that is proposed into the gaits' files: shows each line that changes
    #[arg(long)]
    pub(super) write: bool,
    /// How to report
    #[arg(long, value_enum, default_value_t = Report::Text)]
    pub(super) report: Report,
}

/// `velocitas vary`.
#[derive(Debug, ClapArgs)]
pub(super) struct VaryTask {
    /// The course (.course.toml), or - for standard input; the demo if not given
    pub(super) course: Option<PathBuf>,
    /// A setting and its values, such as latency=0ms..200ms:20ms, plover.view_delay=auto,100ms, profile=home,phone, copies=1..4:1 or courier.walk=3 m/s,4 m/s; may be given several times
    #[arg(long, required_unless_present = "merge", value_name = "KEY=VALUES")]
    pub(super) set: Vec<String>,
    /// Go through the values of all settings in step, instead of every combination
    #[arg(long)]
    pub(super) pair: bool,
    /// What to measure, by the keys of budgets
    #[arg(long, value_delimiter = ',', default_value = "corrections,view_age,roughness,bytes_down")]
    pub(super) measure: Vec<String>,
    /// Bounds of measures in place of the course's, such as view_age=200ms,bytes_down=3kB/s: says which cells keep all of them
    #[arg(long, value_delimiter = ',', value_name = "KEY=VALUE")]
    pub(super) within: Vec<String>,
    /// Over whom: all, a link or a member
    #[arg(long, default_value = "all")]
    pub(super) whose: String,
    /// How much virtual time each run lasts, such as 30s; what the course says if not given
    #[arg(long = "for", value_parser = span)]
    pub(super) lasts: Option<LabTime>,
    /// With how many seeds each cell is run
    #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub(super) seeds: u32,
    /// The first seed; the course's if not given
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// How many runs at once; as many as there are cores if 0
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u16).range(0..=1024))]
    pub(super) jobs: u16,
    /// Write everything to this file: .csv or .json, or drawn as .svg or .pdf; or - for CSV on standard output
    #[arg(short, long, value_name = "FILE")]
    pub(super) output: Option<PathBuf>,
    /// Draw dark on light, for print
    #[arg(long)]
    pub(super) light: bool,
    /// Write each result to this file as it comes; killed and started again, it goes on where the file ends
    #[arg(long, value_name = "FILE.vary")]
    pub(super) into: Option<PathBuf>,
    /// Run this part of the cells only, such as 3/16
    #[arg(long, value_name = "N/OF", requires = "into", conflicts_with = "output", value_parser = Part::read)]
    pub(super) part: Option<Part>,
    /// Take together what all parts came to, from the files that --into wrote
    #[arg(long, num_args = 1.., value_name = "FILE.vary", conflicts_with_all = ["course", "set", "pair", "measure", "within", "whose", "lasts", "seeds", "seed", "jobs", "into", "part"])]
    pub(super) merge: Vec<PathBuf>,
}

/// `velocitas compare`.
#[derive(Debug, ClapArgs)]
pub(super) struct CompareTask {
    /// A course, a take, a record, or a report that `run --report json` wrote
    pub(super) a: PathBuf,
    /// Another
    pub(super) b: PathBuf,
    /// How much virtual time each run lasts; if not given 30s, or as long as the shorter take or the report
    #[arg(long = "for", value_parser = span)]
    pub(super) lasts: Option<LabTime>,
    /// With how many seeds each is run; figures are then means
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub(super) seeds: u32,
    /// The first seed of both; each course's own if not given
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// How to report
    #[arg(long, value_enum, default_value_t = Report::Text)]
    pub(super) report: Report,
    /// Exit with 1 when anything came out otherwise
    #[arg(long)]
    pub(super) fail: bool,
}

/// `velocitas diagnose`.
#[derive(Debug, ClapArgs)]
pub(super) struct DiagnoseTask {
    /// The course, take or record to run, or - for standard input; the demo if none is given
    pub(super) course: Option<PathBuf>,
    /// Where the stretch begins, such as 5s or 0:05; at the beginning if not given
    #[arg(long, value_parser = moment)]
    pub(super) from: Option<LabTime>,
    /// Where it ends; whole seconds are looked at
    #[arg(long, default_value = "10s", value_parser = moment)]
    pub(super) to: LabTime,
    /// On whose machine; the worst trouble of anybody if none is given
    #[arg(long, value_name = "NAME")]
    pub(super) client: Option<String>,
    /// Another seed than the course's
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// Try the best remedies two at a time as well, also where one alone leaves less than a third
    #[arg(long)]
    pub(super) pairs: bool,
    /// How many branches at once; as many as there are cores if 0
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u16).range(0..=1024))]
    pub(super) jobs: u16,
    /// How to report
    #[arg(long, value_enum, default_value_t = Report::Text)]
    pub(super) report: Report,
    /// Exit with 1 when there is a trouble
    #[arg(long)]
    pub(super) fail: bool,
}

/// `velocitas new`.
#[derive(Debug, ClapArgs)]
pub(super) struct NewTask {
    /// The folder to make; it must not exist or be empty
    pub(super) folder: PathBuf,
}

/// `velocitas run`.
#[derive(Debug, ClapArgs)]
pub(super) struct RunTask {
    /// The course, take (NAME.take) or record (NAME.record) to run, or - for standard input; the demo if none is given
    pub(super) course: Option<PathBuf>,
    /// How much virtual time to run, such as 60s, 1500ms or 10min; if not given 60s, and a take or record to its end
    #[arg(long = "for", value_parser = span)]
    pub(super) lasts: Option<LabTime>,
    /// Another seed than the course's
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// How to report
    #[arg(long, value_enum, default_value_t = Report::Text)]
    pub(super) report: Report,
    /// Write the whole record to this file, in blocks while it runs where the name ends with .record, else as JSON Lines, or
    /// - for standard output: the report then goes to standard error
    #[arg(long)]
    pub(super) record: Option<PathBuf>,
    /// Keep the run as a take in this file, to be opened or run again
    #[arg(long, value_name = "FILE")]
    pub(super) take: Option<PathBuf>,
    /// Put the whole record into the take as well: it can be read even where another version of the program gives another run
    #[arg(long, requires = "take")]
    pub(super) sealed: bool,
    /// Write the record that the take was sealed with, as JSON Lines
    #[arg(long, value_name = "FILE", requires = "course")]
    pub(super) unseal: Option<PathBuf>,
    /// Write one kind of row as CSV; the file's name says which, such as inputs.csv or drawn.csv. May be given several times
    #[arg(long = "table", value_name = "FILE")]
    pub(super) tables: Vec<PathBuf>,
}

/// How figures are reported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(super) enum Report {
    /// A table for people
    Text,
    /// For programs
    Json,
}

/// `velocitas chart`.
#[derive(Debug, ClapArgs)]
pub(super) struct ChartTask {
    /// The course, take or record to run, or - for standard input; the demo if none is given
    pub(super) course: Option<PathBuf>,
    /// How much virtual time to run; if not given 20s, and a take or record to its end
    #[arg(long = "for", value_parser = span)]
    pub(super) lasts: Option<LabTime>,
    /// Another seed than the course's
    #[arg(long)]
    pub(super) seed: Option<u64>,
    /// What to draw: lanes by their keys, joined by commas, or a picture; list says what there is
    #[arg(long, default_value = "error,jump")]
    pub(super) of: String,
    /// Whose; the first of the cast if none is given
    #[arg(long)]
    pub(super) entity: Option<String>,
    /// On whose screen; its own if none is given
    #[arg(long)]
    pub(super) viewer: Option<String>,
    /// The first moment drawn, such as 0:02 or 2s; the beginning if none is given
    #[arg(long, value_parser = moment)]
    pub(super) from: Option<LabTime>,
    /// The last moment drawn, and that of a picture; the end if none is given
    #[arg(long, value_parser = moment)]
    pub(super) to: Option<LabTime>,
    /// Dark on light, for print
    #[arg(long)]
    pub(super) light: bool,
    /// The file to write: NAME.svg, NAME.pdf, NAME.csv for the numbers; or - for SVG on standard output
    #[arg(short, long)]
    pub(super) output: Option<PathBuf>,
}

/// A share in per cent.
fn share(text: &str) -> Result<f64, String> {
    let number = text.strip_suffix('%').map(str::trim).and_then(|number| number.parse::<f64>().ok());
    number
        .filter(|percent| (0.0..=1000.0).contains(percent))
        .map(|percent| percent / 100.0)
        .ok_or_else(|| format!("expected a share from 0% to 1000%, such as 10%; found `{text}`"))
}

/// Time or memory to keep.
fn keep(text: &str) -> Result<Keep, String> {
    const LEAST_BYTES: f64 = 1e6;
    let split = text.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(text.len());
    let scale = match text[split..].trim() {
        "kB" => 1e3,
        "MB" => 1e6,
        "GB" => 1e9,
        "KiB" => 1024.0,
        "MiB" => 1_048_576.0,
        "GiB" => 1_073_741_824.0,
        "ms" | "s" | "min" => {
            let lasts = span(text)?;
            let least = format!("expected at least {} s to keep", LEAST_KEPT.secs());
            return if lasts >= LEAST_KEPT { Ok(Keep::Time(lasts)) } else { Err(least) };
        }
        "" => return Err("expected a time or memory with its unit, such as 10min or 2GB".to_owned()),
        unit => {
            return Err(format!(
                "expected a time in s or min, or memory in kB, MB, GB, KiB, MiB or GiB; found `{unit}`"
            ));
        }
    };
    let number: f64 = text[..split].parse().map_err(|_| "expected a number such as 2GB".to_owned())?;
    let bytes = number * scale;
    if (LEAST_BYTES..=1e15).contains(&bytes) {
        Ok(Keep::Bytes(bytes as usize))
    } else {
        Err("expected at least 1 MB and at most a million GB".to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn the_definition_of_the_command_line_is_sound() {
        Args::command().debug_assert();
    }

    #[test]
    fn what_to_keep_is_time_or_memory() {
        assert_eq!(keep("10min"), Ok(Keep::Time(LabTime::from_secs(600.0))));
        assert_eq!(keep("2GB"), Ok(Keep::Bytes(2_000_000_000)));
        assert_eq!(keep("1.5 MiB"), Ok(Keep::Bytes(1_572_864)));
        for bad in ["", "10", "GB", "3 s", "0GB", "1kB", "9999999GB", "2 gigs", "-1GB", "1.2.3GB"] {
            assert!(keep(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn shares_are_read_in_per_cent() {
        assert_eq!(share("7.5 %"), Ok(0.075));
        for bad in ["", "10", "%", "-1%", "nan%", "1001%"] {
            assert!(share(bad).is_err(), "{bad}");
        }
    }
}
