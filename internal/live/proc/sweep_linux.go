package proc

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net/netip"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// sweepEvery is the time between two looks at all listening sockets while an
// instance is starting.
const sweepEvery = 400 * time.Microsecond

// Listener is a socket that listens.
type Listener struct {
	Address netip.AddrPort
	inode   uint32
}

// sweeper looks at the machine's listening sockets on behalf of everyone who waits for one: one
// look for all, whose cost does not grow with their number.
var sweeper struct {
	sync.Mutex
	waiting map[int]expectation
	running bool
}

// expectation is someone who waits for a port, and since when: what a look
// that began before that has found does not count.
type expectation struct {
	ready chan noticed
	since time.Time
}

// awaitPort returns a channel on which it is told when something listens on a
// port that can be reached at 127.0.0.1. forget ends the waiting.
func awaitPort(port int) (ready <-chan noticed, forget func()) {
	c := make(chan noticed, 1)
	sweeper.Lock()
	defer sweeper.Unlock()
	if sweeper.waiting == nil {
		sweeper.waiting = map[int]expectation{}
	}
	sweeper.waiting[port] = expectation{c, time.Now()}
	if !sweeper.running {
		sweeper.running = true
		go sweep()
	}
	return c, func() {
		sweeper.Lock()
		delete(sweeper.waiting, port)
		sweeper.Unlock()
	}
}

// sweep looks again and again until no one waits any more.
func sweep() {
	runtime.LockOSThread() // for good: the thread ends with the goroutine, and its rank with it
	outrank()
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0) // otherwise sleeps are rounded up by 50 µs
	d, err := openDiag()
	if err == nil {
		defer d.close()
	}
	last := time.Now()
	var few []int
	for {
		sweeper.Lock()
		few = few[:0]
		for port := range sweeper.waiting {
			if few = append(few, port); len(few) > fewPorts {
				break
			}
		}
		sweeper.Unlock()
		began := time.Now()
		var found []Listener
		if err == nil && len(few) <= fewPorts {
			found, err = d.listenersOn(few)
		} else if err == nil {
			found, err = d.listeners()
		} else {
			found = listenersOfProc() // slower, and always there
		}
		seen := time.Now()
		sweeper.Lock()
		for _, l := range found {
			port := int(l.Address.Port())
			if x, ok := sweeper.waiting[port]; ok && began.After(x.since) && reachable(l.Address.Addr()) {
				x.ready <- noticed{seen, seen.Sub(last)}
				delete(sweeper.waiting, port)
			}
		}
		if len(sweeper.waiting) == 0 {
			sweeper.running = false
			sweeper.Unlock()
			return
		}
		sweeper.Unlock()
		last = began
		if pause := sweepEvery - time.Since(began); pause > 0 {
			// not through the runtime, which would give this thread's processor
			// away, and may take long to find another; an early end is as good
			ts := unix.NsecToTimespec(int64(pause))
			_, _, _ = unix.RawSyscall(unix.SYS_NANOSLEEP, uintptr(unsafe.Pointer(&ts)), 0, 0)
		}
	}
}

// outrank raises the calling thread over the instances that start, each of which would
// otherwise get its slice first. Where that is not permitted, looks may come late, which the
// figures then show.
func outrank() {
	err := unix.SchedSetAttr(0, &unix.SchedAttr{Size: unix.SizeofSchedAttr, Policy: unix.SCHED_RR, Priority: 1,
		Flags: unix.SCHED_FLAG_RESET_ON_FORK}, 0)
	if err != nil {
		_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), -10)
	}
}

// reachable reports whether a listener on an address takes connections to 127.0.0.1.
func reachable(a netip.Addr) bool {
	return a.IsUnspecified() || a == netip.AddrFrom4([4]byte{127, 0, 0, 1}) ||
		a == netip.MustParseAddr("::ffff:127.0.0.1")
}

// diag queries the kernel for sockets (sock_diag(7)).
type diag struct {
	fd    int
	buf   []byte
	found []Listener
}

func openDiag() (*diag, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_INET_DIAG)
	if err != nil {
		return nil, err
	}
	tv := unix.Timeval{Sec: 1}
	_ = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &tv) // so that nothing can hang
	return &diag{fd: fd, buf: make([]byte, 64<<10)}, nil
}

func (d *diag) close() { unix.Close(d.fd) }

// listeners returns all listening TCP sockets, in memory that the next call uses
// again.
func (d *diag) listeners() ([]Listener, error) {
	out := d.found[:0]
	for _, family := range []byte{unix.AF_INET, unix.AF_INET6} {
		var err error
		if out, err = d.dump(out, family); err != nil {
			return nil, err
		}
	}
	d.found = out
	return out, nil
}

// fewPorts is up to how many ports it costs less to ask for each than for all.
const fewPorts = 8

// listenersOn returns those of some ports that someone listens on at 127.0.0.1, also
// by way of an unspecified address.
func (d *diag) listenersOn(ports []int) ([]Listener, error) {
	out := d.found[:0]
	for _, port := range ports {
		req := request(unix.AF_INET, unix.NLM_F_REQUEST)
		binary.BigEndian.PutUint16(req[24:], uint16(port)) // inet_diag_sockid: source port,
		copy(req[28:], []byte{127, 0, 0, 1})               // source address
		if _, err := d.call(unix.SYS_SENDTO, req[:]); err != 0 {
			return nil, err
		}
		n, err := d.call(unix.SYS_RECVFROM, d.buf)
		for err == unix.EINTR {
			n, err = d.call(unix.SYS_RECVFROM, d.buf)
		}
		if err != 0 {
			return nil, err
		}
		// otherwise an error: no one is there
		if b := d.buf[:n]; n >= 16+answerSize && binary.NativeEndian.Uint16(b[4:]) == sockDiagByFamily &&
			b[17] == listening {
			out = append(out, Listener{netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), uint16(port)),
				binary.NativeEndian.Uint32(b[16+68:])})
		}
	}
	d.found = out
	return out, nil
}

// call sends or receives without the runtime's knowing, for the reason given in
// sweep; the kernel has its answer ready at once. Without an address it is the
// kernel's socket that is meant.
func (d *diag) call(number uintptr, b []byte) (int, unix.Errno) {
	n, _, err := unix.RawSyscall6(number, uintptr(d.fd), uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)), 0, 0, 0)
	return int(n), err
}

const (
	sockDiagByFamily = 20
	listening        = 10 // TCP_LISTEN
	requestSize      = 16 + 56
	answerSize       = 72
)

// request returns a request: nlmsghdr, then inet_diag_req_v2.
func request(family byte, flags uint16) (req [requestSize]byte) {
	ne := binary.NativeEndian
	ne.PutUint32(req[0:], requestSize)
	ne.PutUint16(req[4:], sockDiagByFamily)
	ne.PutUint16(req[6:], flags)
	req[16], req[17] = family, unix.IPPROTO_TCP
	ne.PutUint32(req[20:], 1<<listening)
	binary.NativeEndian.PutUint64(req[64:], ^uint64(0)) // no cookie
	return req
}

func (d *diag) dump(out []Listener, family byte) ([]Listener, error) {
	ne := binary.NativeEndian
	req := request(family, unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
	if _, err := d.call(unix.SYS_SENDTO, req[:]); err != 0 {
		return out, err
	}
	for {
		n, err := d.call(unix.SYS_RECVFROM, d.buf)
		if err == unix.EINTR {
			continue
		} else if err != 0 {
			return out, err
		}
		for b := d.buf[:n]; len(b) >= 16; {
			size := int(ne.Uint32(b))
			if size < 16 || size > len(b) {
				return out, errors.New("truncated message from the kernel")
			}
			switch kind := ne.Uint16(b[4:]); {
			case kind == unix.NLMSG_DONE:
				return out, nil
			case kind == unix.NLMSG_ERROR:
				return out, errors.New("the kernel does not answer")
			case size >= 16+answerSize:
				m := b[16:]
				port := binary.BigEndian.Uint16(m[4:])
				addr := netip.AddrFrom4([4]byte(m[8:12]))
				if m[0] == unix.AF_INET6 {
					addr = netip.AddrFrom16([16]byte(m[8:24]))
				}
				out = append(out, Listener{netip.AddrPortFrom(addr, port), ne.Uint32(m[68:])})
			}
			b = b[min((size+3)&^3, len(b)):]
		}
	}
}

// listenersOfProc reads the same from /proc/net (proc(5)).
func listenersOfProc() (out []Listener) {
	for _, name := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		text, _ := os.ReadFile(name)
		for line := range strings.Lines(string(text)) {
			f := strings.Fields(line)
			if len(f) < 10 || f[3] != "0A" {
				continue
			}
			address, ok := ParseAddress(f[1])
			if !ok {
				continue
			}
			inode, _ := strconv.ParseUint(f[9], 10, 32)
			out = append(out, Listener{address, uint32(inode)})
		}
	}
	return out
}

// ParseAddress returns the address and the port of a field of /proc/net/tcp and its like (proc(5)), which has words in
// the order of the machine; ok is false for none.
func ParseAddress(field string) (a netip.AddrPort, ok bool) {
	host, port, _ := strings.Cut(field, ":")
	raw, err := hex.DecodeString(host)
	number, wrong := strconv.ParseUint(port, 16, 16)
	if err != nil || wrong != nil || len(raw)%4 != 0 {
		return a, false
	}
	for i := 0; i < len(raw); i += 4 {
		binary.BigEndian.PutUint32(raw[i:], binary.NativeEndian.Uint32(raw[i:]))
	}
	address, ok := netip.AddrFromSlice(raw)
	return netip.AddrPortFrom(address, uint16(number)), ok
}

// Listens returns the addresses that the processes of a session listen on.
func (p *Process) Listens() (out []netip.AddrPort) {
	inodes := map[string]bool{}
	for _, pid := range sessionMembers(p.PID) {
		fds, _ := os.ReadDir("/proc/" + pid + "/fd")
		for _, fd := range fds {
			if to, err := os.Readlink("/proc/" + pid + "/fd/" + fd.Name()); err == nil && strings.HasPrefix(to,
				"socket:[") {
				inodes[to] = true
			}
		}
	}
	for _, l := range listenersOfProc() {
		if inodes["socket:["+strconv.Itoa(int(l.inode))+"]"] {
			out = append(out, l.Address)
		}
	}
	return out
}

// firstEphemeral returns the lowest port that the system hands out by itself.
func firstEphemeral() int {
	text, _ := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range")
	if f := strings.Fields(string(text)); len(f) == 2 {
		if n, err := strconv.Atoi(f[0]); err == nil {
			return n
		}
	}
	return 32768
}
