package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/spf13/pflag"

	"kambrel.example/kambrel/core/problem"
)

// serviceKeys are the keys of the service's file, and the flags that say the same.
var serviceKeys = map[string]string{
	"listen": "listen", "url": "url",
	"database.connection": "database", "database.passwordFile": "database-password-file",
	"cloud.url": "cloud-url", "cloud.tokenFile": "cloud-token-file", "cloud.sealKeyFile": "cloud-seal-key-file", "cloud.creationPatience": "creation-patience",
	"tls.certificate": "tls-cert", "tls.key": "tls-key", "tls.folder": "tls-folder", "tls.plain": "plain",
	"administrator.passwordFile": "administrator-password-file",
	"agents.patience":            "agent-patience", "agents.lease": "order-lease", "agents.crossCheckEvery": "cross-check-every",
	"trustedProxies": "trusted-proxy",
	"audit.file":     "audit-file", "audit.syslog": "audit-syslog",
	"mail.server": "mail-server", "mail.from": "mail-from", "mail.user": "mail-user", "mail.passwordFile": "mail-password-file", "mail.ca": "mail-ca",
	"webhook.keyFile": "webhook-key-file",
}

// configure fills flags that were not given: from the environment (KAMBREL_LISTEN for
// --listen), and then from a file. It returns all faults, each with its line.
func configure(flags *pflag.FlagSet, file string) error {
	var faults []error
	for _, name := range serviceKeys {
		flag := flags.Lookup(name)
		value, set := os.LookupEnv(environmentOf(name))
		if flag.Changed || !set || value == "" {
			continue
		}
		if err := flags.Set(name, expand(value)); err != nil {
			faults = append(faults, fmt.Errorf("%s: %w", environmentOf(name), err))
		}
	}
	if file == "" {
		return errors.Join(faults...)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return errors.Join(append(faults, fmt.Errorf("read the configuration: %w", err))...)
	}
	parsed, err := parser.ParseBytes(text, 0)
	if err != nil {
		return errors.Join(append(faults, problem.New(problem.BadInput, "%s cannot be read as YAML: %s", file, firstLine(err)))...)
	}
	at := func(node ast.Node, format string, args ...any) {
		faults = append(faults, fmt.Errorf("%s, line %d: %s", file, node.GetToken().Position.Line, fmt.Sprintf(format, args...)))
	}
	given := map[string]bool{} // by the command line or the environment
	flags.Visit(func(flag *pflag.Flag) { given[flag.Name] = true })
	for _, document := range parsed.Docs {
		eachKey(document.Body, "", at, func(key string, node ast.Node, values []string) {
			name, known := serviceKeys[key]
			switch {
			case !known:
				at(node, "%s is no key of the service's file; there are %s", key, strings.Join(keysLike(key), ", "))
			case !given[name]:
				for i, value := range values {
					values[i] = expand(value)
				}
				if err := flags.Set(name, strings.Join(values, ",")); err != nil {
					at(node, "%s: %s", key, firstLine(err))
				}
			}
		})
	}
	return errors.Join(faults...)
}

// eachKey calls do with every value beneath a node, by its path.
func eachKey(node ast.Node, under string, at func(ast.Node, string, ...any), do func(key string, node ast.Node, values []string)) {
	switch n := node.(type) {
	case nil, *ast.CommentGroupNode:
	case *ast.MappingNode:
		for _, value := range n.Values {
			eachKey(value, under, at, do)
		}
	case *ast.MappingValueNode:
		key := strings.TrimPrefix(under+"."+n.Key.GetToken().Value, ".")
		switch value := n.Value.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			eachKey(value, key, at, do)
		case *ast.SequenceNode:
			var values []string
			for _, one := range value.Values {
				values = append(values, one.GetToken().Value)
			}
			do(key, n.Key, values)
		case *ast.NullNode: // a part whose lines are all comments
		default:
			do(key, n.Key, []string{value.GetToken().Value})
		}
	default:
		at(node, "there is a text where keys and values are expected")
	}
}

// environmentOf is the variable that says the same as a flag.
func environmentOf(flag string) string {
	return "KAMBREL_" + strings.ToUpper(strings.ReplaceAll(flag, "-", "_"))
}

// expand puts in the folders that a service manager gives: of credentials, and of state.
func expand(value string) string {
	for _, name := range []string{"CREDENTIALS_DIRECTORY", "STATE_DIRECTORY"} {
		value = strings.ReplaceAll(value, "$"+name, os.Getenv(name))
	}
	return value
}

// keysLike are the keys of the same part of the file, or all of its parts.
func keysLike(key string) []string {
	part, _, _ := strings.Cut(key, ".")
	var same, all []string
	for known := range serviceKeys {
		of, _, _ := strings.Cut(known, ".")
		if all = append(all, of); of == part {
			same = append(same, known)
		}
	}
	if len(same) == 0 {
		same = all
	}
	slices.Sort(same)
	return slices.Compact(same)
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(strings.TrimSpace(err.Error()), "\n")
	return line
}
