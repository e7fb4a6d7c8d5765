"""A real batch system (Slurm) of two nodes on this machine, on loopback, in a folder of its own; and a real scheduler of
tasks (dask.distributed) with two workers."""

from __future__ import annotations

import os
import random
import shutil
import socket
import subprocess
import sys
import time
from pathlib import Path

NEEDED = ("munged", "slurmctld", "slurmd", "sbatch", "squeue", "scancel", "sinfo")


def is_here() -> bool:
    """Whether Slurm is installed, and this is root, whom its daemons ask for."""
    return os.geteuid() == 0 and all(shutil.which(name) for name in NEEDED)


class Slurm:
    """Two nodes, with two processors each."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        for name in ("state", "spool", "log"):
            (folder / name).mkdir(parents=True)
        self.configuration = folder / "slurm.conf"
        self.variables = {"SLURM_CONF": str(self.configuration)}
        host, port = socket.gethostname().partition(".")[0], random.randrange(20_000, 40_000)
        key = folder / "munge.key"
        key.write_bytes(os.urandom(1024))
        key.chmod(0o400)
        self.configuration.write_text(f"""\
ClusterName=kilns
SlurmctldHost={host}(127.0.0.1)
SlurmUser=root
SlurmdUser=root
AuthType=auth/munge
AuthInfo=socket={folder}/munge.socket
CredType=cred/munge
StateSaveLocation={folder}/state
SlurmdSpoolDir={folder}/spool/%n
SlurmctldPidFile={folder}/ctld.pid
SlurmdPidFile={folder}/slurmd-%n.pid
SlurmctldLogFile={folder}/log/ctld.log
SlurmdLogFile={folder}/log/slurmd-%n.log
SlurmctldPort={port}
ProctrackType=proctrack/linuxproc
TaskPlugin=task/none
JobAcctGatherType=jobacct_gather/none
SelectType=select/cons_tres
SelectTypeParameters=CR_CPU_Memory
DefMemPerCPU=500
MpiDefault=none
SwitchType=switch/none
ReturnToService=2
SchedulerParameters=sched_min_interval=100000,batch_sched_delay=1
MaxArraySize=51
MinJobAge=300
NodeName=n[1-2] NodeHostname={host} NodeAddr=127.0.0.1 Port=[{port + 1}-{port + 2}] CPUs=2 RealMemory=4000 State=UNKNOWN
PartitionName=all Nodes=n[1-2] Default=YES MaxTime=INFINITE State=UP OverSubscribe=YES
""")
        self._run("munged", "-f", f"--key-file={key}", f"--socket={folder}/munge.socket",
                  f"--log-file={folder}/log/munged.log", f"--pid-file={folder}/munged.pid",
                  f"--seed-file={folder}/munged.seed")  # fmt: skip
        self._run("slurmctld", "-i", "-f", self.configuration)
        for node in ("n1", "n2"):
            self.start(node)
        for _ in range(300):
            told = self._run("sinfo", "-h", "-t", "idle,mix,alloc", "-o", "%D").split()
            if sum(map(int, told)) == 2:
                return
            time.sleep(0.2)
        raise AssertionError((folder / "log/ctld.log").read_text())

    def start(self, node: str) -> None:
        self._run("slurmd", "-N", node, "-f", self.configuration)

    def _run(self, *words: object) -> str:
        variables = {**os.environ, **self.variables}
        # Daemons keep what they are given open: not a pipe that somebody reads to its end.
        with (self.folder / "said").open("w+") as said:
            subprocess.run([*map(str, words)], env=variables, check=True, stdout=said, stderr=subprocess.STDOUT)
            said.seek(0)
            return said.read()

    def ask(self, *words: object) -> str:
        """What one of its commands says."""
        return self._run(*words)

    def kill(self, name: str) -> None:
        """End a daemon: ``slurmd-n1``, ``ctld``."""
        pid = self.folder / f"{name}.pid"
        if pid.is_file():
            subprocess.run(["kill", "-9", pid.read_text().strip()], check=False, stderr=subprocess.DEVNULL)

    def stop(self) -> None:
        self._run("scancel", "-u", "root")
        for name in ("slurmd-n1", "slurmd-n2", "ctld", "munged"):
            self.kill(name)


class Scheduler:
    """A scheduler of tasks with two workers, each a process."""

    def __init__(self, folder: Path, variables: dict[str, str]) -> None:
        file = folder / "scheduler.json"
        words = [sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0",
                 "--no-dashboard", "--scheduler-file", str(file)]  # fmt: skip
        self.processes = [self._begun(words, folder, variables)]
        for _ in range(2):
            worker = [sys.executable, "-m", "distributed.cli.dask_worker", "--scheduler-file", str(file), "--nthreads", "1",
                      "--no-dashboard", "--host", "127.0.0.1"]  # fmt: skip
            self.processes.append(self._begun(worker, folder, variables))
        from distributed import Client

        for _ in range(150):
            if file.is_file():
                break
            time.sleep(0.2)
        with Client(scheduler_file=str(file), timeout="30s", set_as_default=False) as client:
            client.wait_for_workers(2, timeout=60)
            self.address = str(client.scheduler.address)

    @staticmethod
    def _begun(words: list[str], folder: Path, variables: dict[str, str]) -> subprocess.Popen[bytes]:
        with (folder / "dask.log").open("ab") as said:
            return subprocess.Popen(words, cwd=folder, env=variables, stdout=said, stderr=said)

    def stop(self) -> None:
        for process in reversed(self.processes):
            process.kill()
            process.wait()
