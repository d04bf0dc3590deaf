//! `typhos plan-parts`: what a shell or an existing scheduler has to run so that an input is surveyed or loaded in parts.
//!
//! Each form is one POSIX shell script that knows three words: `part N` does one part and leaves one alone that is there,
//! `finish` pools or commits, and without a word it does, or submits, all of it. So what is run again after a failure does only
//! what is left.

use std::fmt::Write;
use std::path::{Path, PathBuf};

use typhos_load::stage::Stage;
use typhos_load::{keep_apart, write_file};

use crate::args::{PlanParts, Scheduler};
use crate::console::{self, Console, GOOD, paint};
use crate::outcome::{Failure, Outcome};
use crate::targets::kinds;

pub fn run(args: &PlanParts, console: &mut Console) -> Result<Outcome, Failure> {
    if args.inputs.iter().any(|input| input.as_os_str() == "-") {
        return Err(Failure::Usage(
            "a stream has no parts: where it ends is not known before it has ended; give a file"
                .into(),
        ));
    }
    let mut work = Work::of(args)?;
    // It becomes a comment, which ends with its line.
    work.about = work.about.replace(['\n', '\r'], " ");
    let text = match args.scheduler {
        Scheduler::Shell => shell(&work),
        Scheduler::Slurm => slurm(&work),
        Scheduler::Kubernetes => kubernetes(&work, args),
    };
    match &args.output {
        None => console.machine(text.trim_end())?,
        Some(path) => {
            let read: Vec<_> =
                args.inputs.iter().map(|input| ("an input", input.as_path())).collect();
            keep_apart(&read, &[("the output", path)])?;
            write_file(path, args.replace, text.as_bytes())?;
            console.say(format!(
                "{} {}: {}; {}",
                paint(GOOD, "wrote"),
                console::path(path),
                work.about,
                match args.scheduler {
                    Scheduler::Shell => format!("run it with: JOBS=2 sh {}", word(path)),
                    Scheduler::Slurm => format!("submit it with: sh {}", word(path)),
                    Scheduler::Kubernetes => {
                        format!("submit it with: kubectl apply -f {}", word(path))
                    }
                }
            ))?;
        }
    }
    Ok(Outcome::Clean)
}

/// What is to be done, in pieces of shell.
struct Work {
    /// In a few words.
    about: String,
    count: u32,
    /// What comes before anything else.
    prepare: String,
    /// The body of the function that does part `$1`.
    part: String,
    /// The body of the function that puts all of them together.
    finish: String,
    /// How many parts are there, as a command.
    there: String,
    /// A name for jobs.
    name: String,
}

impl Work {
    fn of(args: &PlanParts) -> Result<Work, Failure> {
        let inputs: Vec<String> = args.inputs.iter().map(|input| word(input)).collect();
        let (inputs, count) = (inputs.join(" "), args.count);
        let options: String =
            args.options.iter().map(|option| format!(" {}", quoted(option))).collect();
        let name = super::table_name(args.inputs.iter().filter_map(|input| input.to_str()));
        let name: String = name.chars().filter(char::is_ascii_alphanumeric).collect();
        let name = format!("typhos-{}", name.to_lowercase());
        match (&args.save, &args.load, &args.into) {
            (Some(save), None, None) => {
                let mut folder = save.clone().into_os_string();
                folder.push(".parts");
                let (folder, save) = (word(Path::new(&folder)), word(save));
                let part = format!(
                    r#"  file=$parts/$1.survey
  [ ! -e "$file" ] || return 0
  status=0
  "$TYPHOS" scout --part "$1/{count}" {inputs} --save "$file"{options} --quiet > /dev/null || status=$?
  # 1 says that there are records which cannot be split; they are in the survey.
  [ "$status" -le 1 ] || exit "$status""#
                );
                Ok(Work {
                    about: format!("surveys {inputs} in {count} parts, and pools them into {save}"),
                    count,
                    prepare: format!("parts={folder}\nmkdir -p \"$parts\""),
                    part,
                    finish: format!("  \"$TYPHOS\" pool \"$parts\"/*.survey -o {save} --replace"),
                    there: "ls \"$parts\" | grep -c '\\.survey$'".into(),
                    name,
                })
            }
            (None, Some(schema), Some(into)) => {
                // What is no path has no place beside it.
                let beside = || match into.to_str().is_some_and(|into| kinds().is_url(into)) {
                    true => PathBuf::from(format!("{name}.stage")),
                    false => Stage::beside(into),
                };
                let stage = args.stage.clone().unwrap_or_else(beside);
                let (schema, into, stage) = (word(schema), word(into), word(&stage));
                let part = format!(
                    r#"  status=0
  "$TYPHOS" load --part "$1/{count}" {schema} {inputs} --into {into} --stage "$stage"{options} --quiet > /dev/null || status=$?
  # 1 says that records were set aside; they are beside what was loaded.
  [ "$status" -le 1 ] || exit "$status""#
                );
                let finish = format!(
                    r#"  # A part that began within quotes is taken back, and begins at the right place the next time.
  tries=0
  while :; do
    status=0
    "$TYPHOS" commit "$stage" || status=$?
    [ "$status" -eq 4 ] && [ "$(there)" -lt {count} ] && [ "$tries" -lt {count} ] || exit "$status"
    tries=$((tries + 1))
    for number in $(seq 1 {count}); do part "$number"; done
  done"#
                );
                Ok(Work {
                    about: format!("loads {inputs} in {count} parts, and publishes them as {into}"),
                    count,
                    prepare: format!("stage={stage}"),
                    part,
                    finish,
                    there: format!(
                        "if [ -e \"$stage/committed.json\" ]; then echo {count}; else ls \"$stage\" | grep -c '^part-.*\\.json$'; fi"
                    ),
                    name,
                })
            }
            _ => Err(Failure::Usage(
                "say what is done in parts: --save SURVEY, or --load SCHEMA --into DIRECTORY"
                    .into(),
            )),
        }
    }

    /// What all forms have in common.
    fn functions(&self) -> String {
        let Work { prepare, part, finish, there, .. } = self;
        format!(
            "set -eu\n: \"${{TYPHOS:=typhos}}\"\n{prepare}\n\nthere() {{ {there} || true; }}\n\npart() {{\n{part}\n}}\n\n\
             finish() {{\n{finish}\n}}\n"
        )
    }
}

fn shell(work: &Work) -> String {
    let Work { about, count, .. } = work;
    let functions = work.functions();
    format!(
        r#"#!/bin/sh
# {about}.
# To be run again after a failure: parts that are there are left alone.
#   JOBS=4 sh SCRIPT     all of it, four parts at a time
#   sh SCRIPT part 3     one part
#   sh SCRIPT finish     what comes once all parts are there
{functions}
case "${{1:-all}}" in
  part) part "$2" ;;
  finish) finish ;;
  all)
    seq 1 {count} | xargs -P "${{JOBS:-1}}" -n 1 sh "$0" part
    finish
    ;;
  *) echo "usage: sh $0 [part N | finish]" >&2; exit 2 ;;
esac
"#
    )
}

fn slurm(work: &Work) -> String {
    let Work { about, count, name, .. } = work;
    let functions = work.functions();
    format!(
        r#"#!/bin/sh
# {about}, by Slurm.
# To be submitted again after a failure: parts that are there are left alone.
#   sh SCRIPT            submits an array of {count} tasks, and one that comes once all of them are done;
#                        AT_ONCE=8 lets so many run at a time, SBATCH_PARTITION and the like are Slurm's own
#   sh SCRIPT part 3     one part, here
#   sh SCRIPT finish     what comes once all parts are there, here
#SBATCH --requeue
#SBATCH --open-mode=append
{functions}
case "${{1:-submit}}" in
  part) part "${{2:-$SLURM_ARRAY_TASK_ID}}" ;;
  finish) finish ;;
  submit)
    export TYPHOS
    array=$(sbatch --parsable --job-name={name} --array="1-{count}${{AT_ONCE:+%$AT_ONCE}}" "$0" part)
    sbatch --job-name={name}-finish --dependency="afterok:${{array%%;*}}" --kill-on-invalid-dep=yes "$0" finish
    ;;
  *) echo "usage: sh $0 [part N | finish]" >&2; exit 2 ;;
esac
"#
    )
}

fn kubernetes(work: &Work, args: &PlanParts) -> String {
    let Work { about, count, name, .. } = work;
    let image = json(args.image.as_deref().unwrap_or("typhos:latest"));
    let claim = json(args.volume.as_deref().unwrap_or("data"));
    let mount = json(&args.mount.display().to_string());
    let functions = work.functions();
    let script = |last: &str| {
        let mut text = String::new();
        for line in functions.lines().chain(last.lines()) {
            let indent = if line.is_empty() { "" } else { "            " };
            let _ = writeln!(text, "{indent}{line}");
        }
        text
    };
    let job = |job: &str, spec: &str, last: &str| {
        format!(
            r#"apiVersion: batch/v1
kind: Job
metadata:
  name: {job}
spec:
{spec}  template:
    spec:
      restartPolicy: OnFailure
      containers:
      - name: typhos
        image: {image}
        workingDir: {mount}
        command: ["/bin/sh", "-c"]
        args:
        - |
{script}        resources:
          requests: {{cpu: "1", memory: 512Mi}}
        volumeMounts:
        - {{name: data, mountPath: {mount}}}
      volumes:
      - name: data
        persistentVolumeClaim: {{claimName: {claim}}}
"#,
            script = script(last)
        )
    };
    let parts = job(
        &format!("{name}-parts"),
        &format!(
            "  completionMode: Indexed\n  completions: {count}\n  parallelism: {}\n  backoffLimit: {}\n",
            (*count).min(16),
            count.saturating_add(6)
        ),
        "part \"$((JOB_COMPLETION_INDEX + 1))\"",
    );
    let wait = format!("while [ \"$(there)\" -lt {count} ]; do sleep 10; done\nfinish");
    let finish = job(&format!("{name}-finish"), "  backoffLimit: 6\n", &wait);
    format!(
        "# {about}, by Kubernetes: an Indexed Job of {count} parts, and a Job that waits for all of them.\n\
         # To be applied again after a failure (delete the Jobs first): parts that are there are left alone.\n\
         {parts}---\n{finish}"
    )
}

/// A text in double quotes, as JSON and so YAML has them.
fn json(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

/// A path as a word of the shell.
fn word(path: &Path) -> String {
    quoted(&path.display().to_string())
}

/// A text as a word of the shell.
fn quoted(text: &str) -> String {
    let is_plain = |letter: char| letter.is_ascii_alphanumeric() || "_-./,:=@%+".contains(letter);
    match !text.is_empty() && text.chars().all(is_plain) {
        true => text.to_owned(),
        false => format!("'{}'", text.replace('\'', "'\\''")),
    }
}

#[cfg(test)]
mod tests {
    use super::quoted;

    #[test]
    fn words_of_the_shell_stay_what_they_are() {
        for (text, want) in [
            ("data/tickets.csv", "data/tickets.csv"),
            ("my file.csv", "'my file.csv'"),
            ("it's", "'it'\\''s'"),
            ("$(rm -rf x)", "'$(rm -rf x)'"),
            (";", "';'"),
            ("", "''"),
        ] {
            assert_eq!(quoted(text), want);
        }
    }
}
