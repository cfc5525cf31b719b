package brief

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// maxBases bounds how many briefs can stand one on the other.
const maxBases = 8

// layers are the top-level keys of a brief and of those it is based on, nearest
// first.
type layers struct {
	docs []*yamldoc.Doc
	tops []map[string]yamldoc.Node
	root yamldoc.Node
}

// read reads a brief and those it is based on.
func (l *layers) read(b *Brief, file string, data []byte, dir string) error {
	doc, err := yamldoc.Parse(file, data)
	if err != nil {
		return err
	}
	root := doc.Root()
	if !root.Exists() {
		root.Fail("Begin with “evenledger brief new SHEET”, or an example under docs.", "the brief is empty")
		return doc.Err()
	}
	if len(l.docs) == 0 {
		l.root = root
	}
	top := map[string]yamldoc.Node{}
	for _, pair := range root.Pairs(yamldoc.Names(new(Brief).keys())...) {
		top[pair.Key] = pair.Value
	}
	l.docs, l.tops = append(l.docs, doc), append(l.tops, top)
	base := top["based_on"]
	name := base.Text()
	if name == "" {
		return nil
	}
	if slices.Contains(b.BasedOn, name) || name == strings.TrimSuffix(file, filepath.Ext(file)) || len(b.BasedOn) == maxBases {
		base.Fail("Take “based_on” out of one of them.", "briefs are based on each other in a circle, or more than %d deep", maxBases)
		return nil
	}
	if strings.ContainsAny(name, `/\`) {
		base.Fail("Put both into the same folder.", "“%s” is a path, and a brief is based on one of its own folder", name)
		return nil
	}
	b.BasedOn = append(b.BasedOn, name)
	for _, path := range []string{name, name + ".yaml", name + ".yml"} {
		data, err := yamldoc.ReadFile(filepath.Join(dir, path))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		return l.read(b, path, data, dir)
	}
	base.Fail("Name a brief of the same folder.", "there is no brief “%s”", name)
	return nil
}

// forKeys are what a brief may say of one system: all but what is settled before the system is
// known.
func forKeys() []string {
	settled := []string{"brief", "based_on", "system", "sheet", "for"}
	return slices.DeleteFunc(yamldoc.Names(new(Brief).keys()), func(name string) bool { return slices.Contains(settled, name) })
}

// suit puts before each layer what it says of just this system. Of others it is seen that
// the keys are right.
func (l *layers) suit(system string, systems []string) {
	var tops []map[string]yamldoc.Node
	for _, top := range l.tops {
		own := map[string]yamldoc.Node{}
		for _, of := range top["for"].Pairs() {
			if systems != nil && !slices.Contains(systems, of.Key) {
				remedy := "Name a system of evenledger.yaml."
				if near := words.Nearest(of.Key, systems); near != "" {
					remedy = "Did you mean “" + near + "”?"
				}
				of.At.Fail(remedy, "evenledger.yaml has no system “%s”", of.Key)
			}
			for _, pair := range of.Value.Pairs(forKeys()...) {
				if of.Key == system {
					own[pair.Key] = pair.Value
				}
			}
		}
		tops = append(tops, own, top)
	}
	l.tops = tops
}

// get returns the nearest layer's value of a key.
func (l *layers) get(key string) yamldoc.Node {
	for _, top := range l.tops {
		if node, ok := top[key]; ok {
			return node
		}
	}
	return yamldoc.Node{}
}

// put puts the nearest layer's value of each key that knows where it goes there.
func (l *layers) put(keys []key) {
	var pairs []yamldoc.Pair
	for _, k := range keys {
		if node := l.get(k.Name); k.Put != nil && node.Exists() {
			pairs = append(pairs, yamldoc.Pair{Key: k.Name, At: node, Value: node})
		}
	}
	yamldoc.Take(pairs, keys)
}

// pairs returns the pairs under a key of every layer; of those with the same
// name the nearest counts. They stand as in the furthest layer that has them.
func (l *layers) pairs(key string, known ...string) []yamldoc.Pair {
	var all []yamldoc.Pair
	for i := len(l.tops) - 1; i >= 0; i-- {
		for _, pair := range l.tops[i][key].Pairs(known...) {
			if at := slices.IndexFunc(all, func(p yamldoc.Pair) bool { return p.Key == pair.Key }); at >= 0 {
				all[at] = pair
			} else {
				all = append(all, pair)
			}
		}
	}
	return all
}

// items returns the items under a key of every layer, furthest first.
func (l *layers) items(key string) []yamldoc.Node {
	var all []yamldoc.Node
	for i := len(l.tops) - 1; i >= 0; i-- {
		all = append(all, l.tops[i][key].Items()...)
	}
	return all
}

// err returns the mistakes in all layers.
func (l *layers) err() error {
	var all yamldoc.Problems
	for _, doc := range l.docs {
		var problems yamldoc.Problems
		if errors.As(doc.Err(), &problems) {
			all = append(all, problems...)
		}
	}
	if len(all) == 0 {
		return nil
	}
	return all
}
