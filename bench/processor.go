package main

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// processor is the processor time that the service, its database and the bench
// itself have taken.
func processor(h *house) (service, database, bench time.Duration) {
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	parents := map[string]string{}
	times := map[string]time.Duration{}
	names := map[string]string{}
	for _, path := range stats {
		raw, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		pid := strings.Split(path, "/")[2]
		end := strings.LastIndexByte(string(raw), ')')
		fields := strings.Fields(string(raw[end+1:]))
		parents[pid], times[pid] = fields[1], onProcessor(pid)
		names[pid] = string(raw[strings.IndexByte(string(raw), '(')+1 : end])
	}
	for pid, spent := range times {
		switch {
		case pid == strconv.Itoa(h.cmd.Process.Pid):
			service += spent
		case pid == strconv.Itoa(os.Getpid()):
			bench += spent
		case names[pid] == "postgres" && strings.HasPrefix(dataFolder(parents, pid), h.folder):
			database += spent
		}
	}
	return service, database, bench
}

// dataFolder is the data folder of the server that a process belongs to.
func dataFolder(parents map[string]string, pid string) string {
	for _, one := range []string{pid, parents[pid]} {
		raw, _ := os.ReadFile("/proc/" + one + "/cmdline")
		args := strings.Split(string(raw), "\x00")
		for i, a := range args {
			if a == "-D" && i+1 < len(args) {
				return args[i+1]
			}
		}
	}
	return ""
}

// onProcessor is how long the threads of a process have been running.
func onProcessor(pid string) (spent time.Duration) {
	threads, _ := filepath.Glob("/proc/" + pid + "/task/[0-9]*/schedstat")
	for _, path := range threads {
		raw, _ := os.ReadFile(path)
		first, _, _ := strings.Cut(string(raw), " ")
		ns, _ := strconv.ParseInt(first, 10, 64)
		spent += time.Duration(ns)
	}
	return spent
}
