package setup

import (
	"context"
	"fmt"
	"strings"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// Vanished lists the containers and groups that settings name and that the
// mirror does not have, with what became of them. A directory that was never
// read has none.
func Vanished(ctx context.Context, s *store.Store, c *decide.Settings) ([]wire.Vanished, error) {
	all := []wire.Vanished{}
	note := func(directory, dn string) error {
		parsed, err := entry.ParseDN(dn)
		if err != nil {
			return err
		}
		now, deleted, err := s.Entries.Vanished(ctx, directory, parsed.Path())
		v := wire.Vanished{Directory: directory, DN: dn, Now: now, Deleted: deleted}
		switch {
		case deleted:
			v.Text = fmt.Sprintf("%s was deleted in directory %s", dn, directory)
		case now != "":
			v.Text = fmt.Sprintf("%s of directory %s is called %s now", dn, directory, now)
		default:
			v.Text = fmt.Sprintf("directory %s has no %s", directory, dn)
		}
		all = append(all, v)
		return err
	}
	for _, directory := range c.Document.Directories {
		state, err := s.Entries.StateOf(ctx, directory.Name)
		if err != nil {
			return nil, err
		}
		if state.Directory == "" {
			continue
		}
		names := c.Scope.Marks(directory.Name)
		base, err := entry.ParseDN(directory.Base)
		if err != nil {
			return nil, err
		}
		for _, group := range c.Scope.Limits() {
			if dn, err := entry.ParseDN(group); err == nil && entry.PathUnder(dn.Path(), base.Path()) {
				names = append(names, group)
			}
		}
		missing, err := s.Entries.Missing(ctx, directory.Name, directory.Base, names)
		if err != nil {
			return nil, err
		}
		for _, dn := range missing {
			if err := note(directory.Name, dn); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// Containers shows the tree of a directory with its marks in a document.
func (e *Setup) Containers(ctx context.Context, document settings.Document, name string) (wire.ContainerTree, error) {
	tree := wire.ContainerTree{Directory: name, Nodes: []wire.Container{}, Vanished: []wire.Vanished{}}
	directory, ok := document.Directory(name)
	if !ok {
		return tree, noDirectory(name)
	}
	state, err := e.store.Entries.StateOf(ctx, name)
	if err != nil {
		return tree, err
	}
	if state.Directory != "" {
		tree.Read = &state.Read
	}
	containers, err := e.store.Entries.Containers(ctx, name)
	if err != nil {
		return tree, err
	}
	base, err := entry.ParseDN(directory.Base)
	if err != nil {
		return tree, badInput(err)
	}
	marks := map[string]string{}
	for mark, dns := range map[string][]string{"include": directory.Containers.Include, "exclude": directory.Containers.Exclude} {
		for _, text := range dns {
			if dn, err := entry.ParseDN(text); err == nil {
				marks[dn.Path()] = mark
			}
		}
	}
	// The base is shown even where the directory does not give it as an entry.
	if len(containers) > 0 && containers[0].Path != base.Path() && tree.Read != nil {
		containers = append([]store.Container{{DN: directory.Base, Path: base.Path()}}, containers...)
	}
	tree.Nodes = treeOf(containers, base.Path(), marks)
	c, err := decide.Compile(document)
	if err != nil {
		return tree, badInput(err)
	}
	all, err := Vanished(ctx, e.store, c)
	if err != nil {
		return tree, err
	}
	for _, v := range all {
		if v.Directory == name {
			tree.Vanished = append(tree.Vanished, v)
		}
	}
	return tree, nil
}

// treeOf puts containers, parents first, into a tree: each with its parent's
// place, the mark that holds for it, and what lies below it. What holds nobody
// and has no mark, as most of a domain controller's own containers, is left out.
func treeOf(containers []store.Container, base string, marks map[string]string) []wire.Container {
	nodes := make([]wire.Container, 0, len(containers))
	at := map[string]int{}
	for _, c := range containers {
		if !entry.PathUnder(c.Path, base) {
			continue
		}
		node := wire.Container{DN: c.DN, Parent: -1, Mark: marks[c.Path], Here: wire.KindCounts{Users: c.Users, Groups: c.Groups, Contacts: c.Contacts}}
		if dn, err := entry.ParseDN(c.DN); err == nil && c.Path != base {
			node.Name = dn.Name()
		} else {
			node.Name = c.DN
		}
		for path := c.Path; path != base; {
			slash := strings.LastIndexByte(path, '/')
			if slash < 0 {
				break
			}
			path = path[:slash]
			if parent, ok := at[path]; ok {
				node.Parent = parent
				break
			}
		}
		if node.State = node.Mark; node.State == "" && node.Parent >= 0 {
			node.State = nodes[node.Parent].State
		}
		at[c.Path] = len(nodes)
		node.Below = node.Here
		nodes = append(nodes, node)
	}
	for i := len(nodes) - 1; i > 0; i-- {
		if parent := nodes[i].Parent; parent >= 0 {
			nodes[parent].Below.Users += nodes[i].Below.Users
			nodes[parent].Below.Groups += nodes[i].Below.Groups
			nodes[parent].Below.Contacts += nodes[i].Below.Contacts
			if nodes[i].State != nodes[parent].State || nodes[i].Mixed {
				nodes[parent].Mixed = true
			}
		}
	}
	return withoutBare(nodes)
}

// withoutBare leaves out what holds nobody and is no organizational unit.
func withoutBare(nodes []wire.Container) []wire.Container {
	kept := make([]wire.Container, 0, len(nodes))
	place := make([]int, len(nodes))
	keep := make([]bool, len(nodes))
	for i := len(nodes) - 1; i >= 0; i-- {
		unit := !strings.HasPrefix(strings.ToLower(nodes[i].DN), "cn=")
		keep[i] = keep[i] || unit || nodes[i].Mark != "" || nodes[i].Below != (wire.KindCounts{}) || nodes[i].Parent < 0
		if keep[i] && nodes[i].Parent >= 0 {
			keep[nodes[i].Parent] = true
		}
	}
	for i, node := range nodes {
		if !keep[i] {
			continue
		}
		if node.Parent >= 0 {
			node.Parent = place[node.Parent]
		}
		place[i] = len(kept)
		kept = append(kept, node)
	}
	return kept
}
