package plan

import "net/url"

// Share is where a team keeps its runs.
type Share struct {
	URL         string // of a database of PostgreSQL, without a password
	PasswordEnv string // the environment variable that has the password; "" for none
}

// CheckShareURL returns what is wrong with the URL of a shared store, without quoting it; "" for nothing.
func CheckShareURL(content string) string {
	u, err := url.Parse(content)
	switch {
	case err != nil || u.Hostname() == "" && u.Query().Get("host") == "" || u.Scheme != "postgres" &&
		u.Scheme != "postgresql":
		return "it is not the URL of a PostgreSQL database, such as postgres://ferries@db.example/drills"
	case len(u.Path) < 2:
		return "it names no database; add one, such as /drills"
	}
	if _, has := u.User.Password(); has || u.Query().Has("password") {
		return passwordInside + " (password: {env: NAME})"
	}
	return ""
}
