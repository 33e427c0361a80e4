// Package bench holds the benchmarks behind docs/performance.md: go test
// -bench in this folder, or make bench. Each figure is a ratio against a bare
// rig measured in the same run, alternately, the median of several rounds.
// Absolute times depend on the machine and prove nothing.
package bench
