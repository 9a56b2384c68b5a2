// SPDX-License-Identifier: Apache-2.0
#include "support/servers.hpp"

#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <thread>

namespace test {
namespace fs = std::filesystem;

Postgres::Postgres()
{
    std::error_code error;
    for (const auto& version : fs::directory_iterator("/usr/lib/postgresql", error))
        if (fs::exists(version.path() / "bin/initdb")) programs_ = (version.path() / "bin/").string();
    if (programs_.empty()) return;
    as_other_ = geteuid() == 0;  // it refuses to be root
    write_file(folder_ / "password", "secret\n");
    if (as_other_) shell("chown -R postgres " + folder_.path());
    run("initdb", "-D " + (folder_ / "data") + " -A scram-sha-256 -U tester --pwfile=" + (folder_ / "password"));
    write_file(folder_ / "data/postgresql.auto.conf",
               "listen_addresses = ''\nunix_socket_directories = '" + folder_.path() + "'\nfsync = off\nmax_connections = 40\n");
    start();
    there_ = ask("create database studies").find("CREATE") != std::string::npos;
}

Postgres::~Postgres()
{
    if (!programs_.empty()) stop();
}

std::string Postgres::run(const std::string& program, const std::string& arguments) const
{
    Outcome o = shell("cd / && " + std::string(as_other_ ? "runuser -u postgres -- " : "") + programs_ + program + " " + arguments);
    return o.out + o.err;
}

std::string Postgres::url(const std::string& password) const
{
    return "postgresql://tester:" + password + "@/studies?host=" + folder_.path();
}

std::string Postgres::ask(const std::string& sql) const
{
    Outcome o = shell("PGPASSWORD=secret " + programs_ + "psql -h " + folder_.path() + " -U tester -At -d " +
                      (sql.find("create database") != std::string::npos ? "postgres" : "studies") + " -c \"" + sql + "\"");
    return o.out + o.err;
}

void Postgres::stop(bool at_once)
{
    run("pg_ctl", "-D " + (folder_ / "data") + " -m " + (at_once ? "immediate" : "fast") + " -w stop");
}

void Postgres::start()
{
    run("pg_ctl", "-D " + (folder_ / "data") + " -l " + (folder_ / "log") + " -w start");
}

Slurm::Slurm()
{
    for (const char* program : {"slurmctld", "slurmd", "munged"})
        if (!fs::exists(std::string("/usr/sbin/") + program)) return;
    if (geteuid() != 0) return;  // slurmd starts jobs as their users
    fs::permissions(folder_.path(), fs::perms(0755));
    int port = 20000 + getpid() % 20000;
    fs::create_directories(folder_ / "munge");
    shell("dd if=/dev/urandom of=" + (folder_ / "munge/key") + " bs=1 count=1024; chmod 700 " + (folder_ / "munge") + "; chmod 400 " + (folder_ / "munge/key"));
    std::string m = folder_ / "munge/";
    shell("munged --force --socket=" + m + "socket --key-file=" + m + "key --log-file=" + m + "log --pid-file=" + m + "pid --seed-file=" + m + "seed");
    std::string host = shell("hostname -s").out;
    host.resize(host.find_last_not_of('\n') + 1);
    std::string f = folder_.path() + "/";
    write_file(folder_ / "slurm.conf",
               "ClusterName=netlooptest\nSlurmctldHost=" + host + "(127.0.0.1)\nSlurmctldPort=" + std::to_string(port) +
                   "\nSlurmUser=root\nSlurmdUser=root\nAuthType=auth/munge\nAuthInfo=socket=" + m + "socket\nStateSaveLocation=" + f +
                   "state\nSlurmdSpoolDir=" + f + "%n\nSlurmctldPidFile=" + f + "ctld.pid\nSlurmdPidFile=" + f + "%n.pid\nSlurmctldLogFile=" + f +
                   "ctld.log\nSlurmdLogFile=" + f +
                   "%n.log\nProctrackType=proctrack/pgid\nTaskPlugin=task/none\nSelectType=select/cons_tres\nSelectTypeParameters=CR_Core\n"
                   "SchedulerParameters=sched_interval=1,batch_sched_delay=0\nReturnToService=2\nAccountingStorageType=accounting_storage/none\n"
                   "JobAcctGatherType=jobacct_gather/none\nMpiDefault=none\nKillWait=2\nNodeName=n1 NodeHostname=" +
                   host + " NodeAddr=127.0.0.1 Port=" + std::to_string(port + 1) + " CPUs=1 State=UNKNOWN\nNodeName=n2 NodeHostname=" + host +
                   " NodeAddr=127.0.0.1 Port=" + std::to_string(port + 2) +
                   " CPUs=1 State=UNKNOWN\nPartitionName=all Nodes=n1,n2 Default=YES MaxTime=INFINITE State=UP\n");
    for (const char* name : {"state", "n1", "n2"}) fs::create_directories(folder_ / name);
    shell(environment() + "slurmctld -i; " + environment() + "slurmd -N n1; " + environment() + "slurmd -N n2");
    for (int k = 0; k < 100 && !there_; ++k) {
        there_ = shell(environment() + "sinfo -h -o '%T %D'").out.find("idle 2") != std::string::npos;
        if (!there_) std::this_thread::sleep_for(std::chrono::milliseconds(200));
    }
}

Slurm::~Slurm()
{
    if (!fs::exists(configuration())) return;
    for (const char* pid : {"n1.pid", "n2.pid", "ctld.pid", "munge/pid"})
        if (std::string number = read_file(folder_ / pid); !number.empty()) shell("kill -9 " + number.substr(0, number.find('\n')));
}

}  // namespace test
