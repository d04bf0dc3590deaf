//! Parts run by Slurm, on a cluster of this machine alone: munge, a controller and two nodes, in a temporary folder.

use std::fmt::Write;
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use crate::servers::server::is_root;
use crate::world::{World, tool_that_answers};

/// The longest that anything of the cluster is waited for.
const PATIENCE: Duration = Duration::from_secs(120);

struct Cluster {
    folder: tempfile::TempDir,
    daemons: Vec<Child>,
}

impl Cluster {
    /// Starts one; `None` where Slurm is not installed, or is not run by root, as its daemons have to be.
    fn start() -> Option<Cluster> {
        let all = [("munged", "--version"), ("slurmctld", "-V"), ("slurmd", "-V")];
        if !all.into_iter().all(|(name, question)| tool_that_answers(name, question)) {
            return None;
        }
        if !is_root() {
            eprintln!("skipped: the daemons of Slurm have to be run by root");
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        let mut cluster = Cluster { folder, daemons: Vec::new() };
        let at = |name: &str| cluster.folder.path().join(name);
        let open = |path: &Path, mode| {
            std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
        };
        open(cluster.folder.path(), 0o755);
        let munge = at("munge");
        std::fs::create_dir(&munge).unwrap();
        let key: Vec<u8> =
            (0..1024_u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
        std::fs::write(munge.join("key"), key).unwrap();
        open(&munge.join("key"), 0o400);
        open(&munge, 0o711);
        let chown = Command::new("chown").args(["-R", "munge:munge"]).arg(&munge).status().unwrap();
        assert!(chown.success());
        for name in ["state", "log"] {
            std::fs::create_dir(at(name)).unwrap();
        }
        std::fs::write(at("slurm.conf"), cluster.config()).unwrap();
        let socket = munge.join("socket");
        let mut munged = Command::new("setpriv");
        munged.args([
            "--reuid",
            "munge",
            "--regid",
            "munge",
            "--clear-groups",
            "--pdeathsig",
            "KILL",
            "munged",
            "--foreground",
        ]);
        for name in ["key", "pid", "seed"] {
            munged.arg(format!("--{name}-file={}", munge.join(name).display()));
        }
        munged.arg(format!("--socket={}", socket.display()));
        munged.arg(format!("--log-file={}", munge.join("log").display()));
        cluster.spawn(munged);
        until("munge to answer", || socket.exists());
        cluster.spawn(cluster.daemon(&["slurmctld", "-D"]));
        until("the controller to answer", || cluster.run("scontrol", &["ping"]).status.success());
        for node in ["one", "two"] {
            cluster.spawn(cluster.daemon(&["slurmd", "-D", "-N", node]));
        }
        until("both nodes to be idle", || {
            let told = cluster.run("sinfo", &["-h", "-o", "%D %t"]);
            String::from_utf8_lossy(&told.stdout).trim() == "2 idle"
        });
        Some(cluster)
    }

    fn config(&self) -> String {
        let host = Command::new("hostname").arg("-s").output().unwrap().stdout;
        let host = String::from_utf8(host).unwrap().trim().to_owned();
        let listeners: Vec<TcpListener> =
            (0..3).map(|_| TcpListener::bind("127.0.0.1:0").unwrap()).collect();
        let ports: Vec<u16> = listeners.iter().map(|l| l.local_addr().unwrap().port()).collect();
        let at = self.folder.path().display();
        let mut config = format!(
            "ClusterName=parts\nSlurmctldHost={host}(127.0.0.1)\nSlurmctldPort={port}\n\
             AuthType=auth/munge\nCredType=cred/munge\nAuthInfo=socket={at}/munge/socket,cred_expire=5\n\
             SlurmUser=root\nSlurmdUser=root\nSlurmctldPidFile={at}/ctld.pid\nSlurmdPidFile={at}/%n.pid\n\
             SlurmdSpoolDir={at}/spool-%n\nStateSaveLocation={at}/state\nSlurmctldLogFile={at}/log/ctld\n\
             SlurmdLogFile={at}/log/%n\nProctrackType=proctrack/pgid\nTaskPlugin=task/none\nMpiDefault=none\n\
             SelectType=select/cons_tres\nSelectTypeParameters=CR_Core\nReturnToService=2\n\
             SchedulerParameters=sched_interval=1,batch_sched_delay=0\nKillWait=2\n",
            port = ports[0]
        );
        for (node, port) in ["one", "two"].iter().zip(&ports[1..]) {
            let _ = writeln!(
                config,
                "NodeName={node} NodeHostname={host} NodeAddr=127.0.0.1 Port={port} CPUs=2 State=UNKNOWN"
            );
        }
        config.push_str("PartitionName=all Nodes=one,two Default=YES MaxTime=INFINITE State=UP\n");
        config
    }

    fn command(&self, name: &str, args: &[&str]) -> Command {
        let mut command = Command::new(name);
        command.args(args).env("SLURM_CONF", self.folder.path().join("slurm.conf"));
        command
    }

    /// A daemon, which dies with the thread that starts it.
    fn daemon(&self, words: &[&str]) -> Command {
        self.command("setpriv", &[&["--pdeathsig", "KILL"], words].concat())
    }

    fn spawn(&mut self, mut command: Command) {
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        self.daemons.push(command.spawn().unwrap());
    }

    fn run(&self, name: &str, args: &[&str]) -> Output {
        self.command(name, args).output().unwrap()
    }

    /// What a command of Slurm says.
    fn told(&self, name: &str, args: &[&str]) -> String {
        String::from_utf8_lossy(&self.run(name, args).stdout).trim().to_owned()
    }

    /// Submits a script in a folder, and returns the numbers of its array and of what comes behind it.
    fn submit(&self, world: &World, script: &str, typhos: &Path) -> String {
        let told = self
            .command("sh", &[script])
            .current_dir(world.path("."))
            .env("TYPHOS", typhos)
            .output()
            .unwrap();
        let text = String::from_utf8_lossy(&told.stdout).into_owned();
        assert!(told.status.success(), "{text}{}", String::from_utf8_lossy(&told.stderr));
        text.trim().rsplit(' ').next().unwrap().to_owned()
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        // The nodes first, and munge last: they use each other to the end.
        for mut daemon in self.daemons.drain(..).rev() {
            let _ = Command::new("kill").arg(daemon.id().to_string()).status();
            let begun = Instant::now();
            while begun.elapsed() < Duration::from_secs(10) && matches!(daemon.try_wait(), Ok(None))
            {
                std::thread::sleep(Duration::from_millis(50));
            }
            let _ = daemon.kill();
            let _ = daemon.wait();
        }
    }
}

fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < PATIENCE, "waited too long for {what}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// The program, but for the first attempt at a part, which does nothing for a long time and says so in a file.
fn slow_once(world: &World, part: &str) -> (PathBuf, PathBuf) {
    let (wrapper, begun) = (world.path("typhos-slow-once"), world.path("begun"));
    let text = format!(
        "#!/bin/sh\ncase \" $* \" in *\" {part} \"*) if [ ! -e '{begun}' ]; then touch '{begun}'; sleep 600; fi ;; esac\n\
         exec '{typhos}' \"$@\"\n",
        begun = begun.display(),
        typhos = env!("CARGO_BIN_EXE_typhos")
    );
    world.write("typhos-slow-once", text);
    std::fs::set_permissions(&wrapper, std::fs::Permissions::from_mode(0o755)).unwrap();
    (wrapper, begun)
}

#[test]
fn an_array_of_parts_of_which_one_is_killed_and_runs_again_gives_the_whole() {
    let Some(cluster) = Cluster::start() else { return };
    let world = World::demo(3000);
    std::fs::set_permissions(world.path("."), std::fs::Permissions::from_mode(0o755)).unwrap();
    world
        .ok("plan-parts tickets.csv --count 6 --for slurm --save tickets.survey -o survey.sh")
        .says("surveys tickets.csv in 6 parts");
    let (typhos, begun) = slow_once(&world, "4/6");
    let last = cluster.submit(&world, "survey.sh", &typhos);
    until("the task to begin", || begun.exists());
    let tasks = cluster.told("squeue", &["-h", "-r", "-o", "%F_%K %T"]);
    let running = tasks.lines().find(|task| task.ends_with("_4 RUNNING")).expect(&tasks);
    let task = running.split(' ').next().unwrap();
    assert!(cluster.run("scontrol", &["requeue", task]).status.success(), "{task}");
    until("the survey", || {
        assert!(!cluster.told("scontrol", &["show", "job", &last]).contains("JobState=FAILED"));
        world.path("tickets.survey").exists()
    });
    world.ok("scout tickets.csv --save whole.survey");
    let bytes = |name: &str| std::fs::read(world.path(name)).unwrap();
    assert!(bytes("tickets.survey") == bytes("whole.survey"));

    world.ok("draft tickets.survey -o t.typhos.toml --table tickets");
    world.ok(
        "plan-parts tickets.csv --count 4 --for slurm --load t.typhos.toml --into lake -o load.sh",
    );
    cluster.submit(&world, "load.sh", Path::new(env!("CARGO_BIN_EXE_typhos")));
    until("the load", || world.path("lake").exists());
    world.ok("peek lake --rows 1").says("1 of 3,000 rows");
    until("all to be done", || cluster.told("squeue", &["-h"]).is_empty());
}
