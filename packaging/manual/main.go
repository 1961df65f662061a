// Command manual writes man pages and completions of a command line into the folders that a
// package has for them.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"kambrel.example/kambrel/cli"
	"kambrel.example/kambrel/core/version"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "manual: give the package's root")
		os.Exit(1)
	}
	if err := write(cli.NewRoot(), os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
}

func write(root *cobra.Command, into string) error {
	root.DisableAutoGenTag = true
	pages := filepath.Join(into, "usr/share/man/man1")
	bash, zsh, fish := filepath.Join(into, "usr/share/bash-completion/completions"), filepath.Join(into, "usr/share/zsh/vendor-completions"), filepath.Join(into, "usr/share/fish/vendor_completions.d")
	for _, folder := range []string{pages, bash, zsh, fish} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
	}
	header := &doc.GenManHeader{Title: "KAMBREL", Section: "1", Source: "Kambrel " + version.Number, Manual: "Kambrel"}
	for _, step := range []func() error{
		func() error { return doc.GenManTree(root, header, pages) },
		func() error { return root.GenBashCompletionFileV2(filepath.Join(bash, "kambrel"), true) },
		func() error { return root.GenZshCompletionFile(filepath.Join(zsh, "_kambrel")) },
		func() error { return root.GenFishCompletionFile(filepath.Join(fish, "kambrel.fish"), true) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}
