package sandbox

// RaceDetector says whether this program has no limit of memory.
const RaceDetector = raceDetector
