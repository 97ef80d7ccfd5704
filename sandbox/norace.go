//go:build !race

package sandbox

const raceDetector = false
