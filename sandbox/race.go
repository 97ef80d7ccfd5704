//go:build race

package sandbox

// raceDetector needs more memory than a job has.
const raceDetector = true
