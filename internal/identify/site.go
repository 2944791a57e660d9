package identify

import (
	"fmt"
	"regexp"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Site is a recogniser of batch jobs that the site describes: by variables of the environment, or by a pattern of
// cgroup paths. Make it with ParseSite.
type Site struct {
	Name               string
	Job, User, Account string         // variables; "" where Path tells, or nothing does
	Path               *regexp.Regexp // with groups named job, user and account
}

var siteName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9 _-]{0,39}$`)

// ParseSite reads NAME:env:job=VARIABLE[,user=VARIABLE][,account=VARIABLE], or NAME:path:PATTERN with a group named
// job, and, if the path tells, user and account.
func ParseSite(s string) (Site, error) {
	name, rest, ok1 := strings.Cut(s, ":")
	form, spec, ok2 := strings.Cut(rest, ":")
	if !ok1 || !ok2 || !siteName.MatchString(name) {
		return Site{}, fmt.Errorf("%q: write NAME:env:job=VARIABLE,user=VARIABLE,account=VARIABLE or NAME:path:PATTERN",
			s)
	}
	site := Site{Name: name}
	switch form {
	case "path":
		pattern, err := regexp.Compile(spec)
		if err != nil {
			return site, fmt.Errorf("%q: the pattern does not compile: %w", s, err)
		}
		if pattern.SubexpIndex("job") < 0 {
			return site,
				fmt.Errorf("%q: the pattern must have a group named job, as in /grid/(?P<user>[^/]+)/(?P<job>[0-9]+)$",
					s)
		}
		site.Path = pattern
	case "env":
		for part := range strings.SplitSeq(spec, ",") {
			k, v, _ := strings.Cut(part, "=")
			into := map[string]*string{"job": &site.Job, "user": &site.User, "account": &site.Account}[k]
			if into == nil || v == "" {
				return site, fmt.Errorf("%q: %q is none of job=VARIABLE, user=VARIABLE, account=VARIABLE", s, part)
			}
			*into = v
		}
		if site.Job == "" {
			return site, fmt.Errorf("%q: say which variable holds the job's id: job=VARIABLE", s)
		}
	default:
		return site, fmt.Errorf("%q: %q is neither env nor path", s, form)
	}
	return site, nil
}

// site recognises by a Site.
type site struct {
	Site
	users *Users
}

func (s site) byPath(p string) (account.Workload, bool) {
	if s.Path == nil {
		return account.Workload{}, false
	}
	m := s.Path.FindStringSubmatch(p)
	if m == nil {
		return account.Workload{}, false
	}
	group := func(name string) string {
		if i := s.Path.SubexpIndex(name); i >= 0 {
			return m[i]
		}
		return ""
	}
	id := group("job")
	if id == "" {
		return account.Workload{}, false
	}
	w := account.Workload{
		Key: "job:" + s.Name + ":" + id, Kind: amount.Job, Name: "job " + id, Owner: group("user"), UID: -1,
		Facts: map[string]string{account.FactAccount: group("account")},
	}
	if uid, ok := s.users.UID(w.Owner); ok {
		w.UID = uid
	}
	return w, true
}

// byProcess believes the id, but not who it is for: the key holds the real uid, and the owner is that user unless the
// process is root's, as a daemon's may be that runs jobs for others.
func (s site) byProcess(p *Process, inside account.Workload) (account.Workload, bool) {
	if s.Job == "" {
		return account.Workload{}, false
	}
	env := p.environment(s.Job, s.User, s.Account)
	id := env[s.Job]
	if id == "" {
		return account.Workload{}, false
	}
	w := account.Workload{
		Key: fmt.Sprintf("job:%s:%s:uid%d", s.Name, id, p.UID), Kind: amount.Job, Name: "job " + id, UID: p.UID,
		Owner: s.users.Name(p.UID), Outer: inside.Key,
		Facts: map[string]string{account.FactWhy: s.Job + " in the environment", account.FactAccount: env[s.Account]},
	}
	if user := env[s.User]; p.UID == 0 && user != "" {
		w.Owner, w.UID = user, -1
		if uid, ok := s.users.UID(user); ok {
			w.UID = uid
		}
	}
	return w, true
}
