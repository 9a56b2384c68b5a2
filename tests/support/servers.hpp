// SPDX-License-Identifier: Apache-2.0
// Servers that tests start for themselves, in folders of their own, and stop: nothing of the machine's own servers is touched.
#pragma once

#include <string>

#include "support/support.hpp"

namespace test {

/// A temporary PostgreSQL cluster behind a socket in its own folder.
class Postgres {
public:
    Postgres();
    ~Postgres();
    /// False: PostgreSQL is not installed (Debian: postgresql).
    bool there() const { return there_; }
    std::string url(const std::string& password = "secret") const;
    /// A statement as psql takes it; what it prints.
    std::string ask(const std::string& sql) const;
    void stop(bool at_once = true);
    void start();

private:
    std::string run(const std::string& program, const std::string& arguments) const;
    Scratch folder_;
    std::string programs_;
    bool there_ = false, as_other_ = false;
};

/// slurmctld, two slurmd and munge on this machine, with their own configuration, ports and folders.
class Slurm {
public:
    Slurm();
    ~Slurm();
    bool there() const { return there_; }
    /// In front of a command that asks it.
    std::string environment() const { return "SLURM_CONF=" + (folder_ / "slurm.conf") + " "; }
    std::string configuration() const { return folder_ / "slurm.conf"; }

private:
    Scratch folder_;
    bool there_ = false;
};

}  // namespace test
