package main

import (
	"encoding/json"
	"fmt"

	"github.com/invopop/jsonschema"
	"github.com/spf13/cobra"
)

// addJSON adds --json, and --json-schema for what it prints: a value of the same type. It is called once the command's
// Args and RunE are set.
func (p *program) addJSON(cmd *cobra.Command, asJSON *bool, of any) {
	var schema bool
	cmd.Flags().BoolVar(asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&schema, "json-schema", false, "print the JSON Schema of what --json prints")
	takes, run := cmd.Args, cmd.RunE
	cmd.Args = func(cmd *cobra.Command, args []string) error {
		if schema || takes == nil {
			return nil
		}
		return takes(cmd, args)
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !schema {
			return run(cmd, args)
		}
		reflector := jsonschema.Reflector{ExpandedStruct: false, DoNotReference: true}
		text, err := json.MarshalIndent(reflector.Reflect(of), "", "  ")
		if err == nil {
			_, err = fmt.Fprintf(p.out, "%s\n", text)
		}
		return err
	}
}
