package doctor

// rlimitProcesses is RLIMIT_NPROC of getrlimit(2).
const rlimitProcesses = 7
