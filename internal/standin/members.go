package standin

import (
	"encoding/json"
	"slices"
	"strings"
)

// admit sees that the members a resource is to have may be its members. Those it
// has already are not looked at again.
func (s *Server) admit(kind *resourceType, held *store, old, now map[string]any) error {
	members, _ := now["members"].([]any)
	if len(members) == 0 || named(kind.schema.attributes, "members") == nil {
		return nil
	}
	known := map[string]bool{}
	before, _ := old["members"].([]any)
	for _, item := range before {
		known[text(item)] = true
	}
	seen := make(map[string]bool, len(members))
	joined := 0
	for _, item := range members {
		member, _ := item.(map[string]any)
		id, _ := member["value"].(string)
		if seen[id] {
			return invalid("%s is twice among the members", id)
		}
		seen[id] = true
		if known[text(item)] {
			continue
		}
		joined++
		if !s.has(held, id) {
			return invalid("the member %s does not exist", id)
		}
		for _, rule := range [][2]string{{"role", "roles"}, {"section", "sections"}} {
			value, _ := member[rule[0]].(string)
			allowed, _ := now[rule[1]].([]any)
			if value != "" && len(allowed) > 0 && !slices.ContainsFunc(allowed, func(a any) bool { return a == value }) {
				return invalid("%s has no %s %q", now["displayName"], rule[0], value)
			}
		}
	}
	if open, told := now["open"].(bool); told && !open && joined > 0 {
		return &problem{403, "", "the course " + now["displayName"].(string) + " is closed"}
	}
	if seats, told := now["seats"].(json.Number); told && joined > 0 {
		if n, err := seats.Int64(); err == nil && len(members) > int(n) {
			return &problem{403, "", "no seat of " + now["displayName"].(string) + " is left"}
		}
	}
	return nil
}

func text(item any) string {
	data, err := json.Marshal(item)
	if err != nil {
		return ""
	}
	return string(data)
}

// has reports whether there is an account or group that can be a member. The held
// store is locked by the caller.
func (s *Server) has(held *store, id string) bool {
	for _, st := range s.stores[:2] {
		if held == nil {
			st.mu.RLock()
		}
		r := st.byID[id]
		if held == nil {
			st.mu.RUnlock()
		}
		if r != nil && !r.visible.After(s.options.Now()) {
			return true
		}
	}
	return false
}

// drop takes a resource that was removed out of everything it was a member of.
func (s *Server) drop(id string) {
	now := s.options.Now()
	for _, st := range s.stores {
		if named(st.kind.schema.attributes, "members") == nil {
			continue
		}
		for _, rec := range st.find(nil, now) {
			members, _ := rec.body["members"].([]any)
			is := func(item any) bool { m, ok := item.(map[string]any); return ok && m["value"] == id }
			if !slices.ContainsFunc(members, is) {
				continue
			}
			// It was there a moment ago, and if it is gone there is nothing to do.
			_, _ = st.change(rec.id, "", now, func(body map[string]any) (map[string]any, error) {
				out := deepCopy(body).(map[string]any)
				list, _ := out["members"].([]any)
				if out["members"] = slices.DeleteFunc(list, is); len(out["members"].([]any)) == 0 {
					delete(out, "members")
				}
				return out, nil
			})
		}
	}
}

// refers sees that the manager of an account is an account.
func (s *Server) refers(kind *resourceType, held *store, old, now map[string]any) error {
	if kind.endpoint != "/Users" {
		return nil
	}
	manager := func(body map[string]any) string {
		inner, _ := body[enterpriseSchema].(map[string]any)
		m, _ := inner["manager"].(map[string]any)
		id, _ := m["value"].(string)
		return id
	}
	id := manager(now)
	if id == "" || id == manager(old) {
		return nil
	}
	if !s.has(held, id) {
		return invalid("the manager %s does not exist", strings.ToValidUTF8(id, ""))
	}
	return nil
}

// allow refuses a resource that the practice application's own rules forbid. The
// held store is locked by the caller; nil: none is.
func (s *Server) allow(kind *resourceType, held *store, old, now map[string]any) error {
	if err := s.refers(kind, held, old, now); err != nil {
		return err
	}
	if err := s.goodPassword(kind, now); err != nil {
		return err
	}
	return s.admit(kind, held, old, now)
}

// shortest is how long a password has to be; isSet is what is kept of one.
const (
	shortest = 10
	isSet    = "(is set)"
)

func (s *Server) goodPassword(kind *resourceType, now map[string]any) error {
	password, given := now["password"].(string)
	if kind.endpoint != "/Users" || !given || password == isSet {
		return nil
	}
	if len(password) < shortest {
		return invalid("the password is shorter than %d characters", shortest)
	}
	now["password"] = isSet // nobody signs in here, so there is no need to keep it
	return nil
}
