package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A function in another network reaches the object of its event, and publishes, by the name that reach_at has for this
// machine.
func TestAFunctionInAnotherNetwork(t *testing.T) {
	has(t, "python3")
	if _, err := exec.LookPath("ip"); err != nil || os.Getuid() != 0 {
		t.Skip("FUNCTIONS IN OTHER NETWORKS ARE NOT TRIED: that needs the command ip, and root")
	}
	const space, here, there = "nightdrill-test", "10.213.77.1", "10.213.77.2"
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", space).Run() })
	for _, line := range []string{"netns add " + space, "link add ndtest0 type veth peer name ndtest1",
		"link set ndtest1 netns " + space, "addr add " + here + "/24 dev ndtest0", "link set ndtest0 up",
		"-n " + space + " addr add " + there + "/24 dev ndtest1", "-n " + space + " link set ndtest1 up"} {
		if out, err := exec.Command("ip", strings.Fields(line)...).CombinedOutput(); err != nil {
			t.Skipf("FUNCTIONS IN OTHER NETWORKS ARE NOT TRIED: ip %s: %s", line, out)
		}
	}
	dir := t.TempDir()
	put(t, filepath.Join(dir, "f.py"), `import json, os, sys, urllib.request
for line in sys.stdin:
    event = json.loads(line)
    if "url" not in (event.get("data") or {}):
        print(json.dumps({"id": event["id"], "status": 200, "body": "seen"}), flush=True)
        continue
    content = urllib.request.urlopen(event["data"]["url"]).read().decode()
    to = urllib.request.urlopen(urllib.request.Request(os.environ["PUBLISH_URL"] + "/next", data=content.encode()))
    body = [content, event["data"]["url"], to.status]
    print(json.dumps({"id": event["id"], "status": 200, "body": body}), flush=True)
`)
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
functions:
  f: {start: [ip, netns, exec, `+space+`, python3, f.py], transport: lines, reach_at: `+here+`, start_timeout: 60s}
sources:
  cargo: {kind: storage, wires: [{to: f}]}
  next: {kind: queue, wires: [{to: f}]}
`)
	put(t, filepath.Join(dir, "heron.csv"), "lime")
	expectCall(t, dir, []string{"--objects", here + ":0", "--publish", here + ":0", "fire", "cargo",
		filepath.Join(dir, "heron.csv"), "--key", "heron.csv"}, 0, []string{`"lime"`, "http://" + here + ":", "202"})
}
