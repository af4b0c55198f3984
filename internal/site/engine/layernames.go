package engine

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"time"
)

// layerFiles names the files that the lowest n of an image's layers may have in an archive of it,
// so that they are known before the archive is asked for: an engine takes seconds to make one, and
// says only at its end which file has which layer. Engines name such a file by what is in the
// layer or, before version 25, by an identifier that follows from the layers up to it. One of
// another name is brought although it is there, which costs time alone.
func layerFiles(layers []string, n int) map[string]bool {
	n = min(n, len(layers))
	files := map[string]bool{}
	for _, layer := range layers[:n] {
		for _, file := range byContent(layer) {
			files[file] = true
		}
	}
	for _, layer := range layers[n:] { // one that the image has twice
		for _, file := range byContent(layer) {
			delete(files, file)
		}
	}
	// The identifier has a moment in it, the same one everywhere, as the engine's own zone writes it.
	for zone := -14 * time.Hour; zone <= 14*time.Hour; zone += 15 * time.Minute {
		moment := time.Unix(0, 0).In(time.FixedZone("", int(zone.Seconds()))).Format(time.RFC3339)
		for _, id := range identifiers(layers[:n], moment) {
			files[id+"/layer.tar"] = true
		}
	}
	return files
}

func byContent(layer string) [2]string {
	hex := strings.TrimPrefix(layer, "sha256:")
	return [2]string{"blobs/sha256/" + hex, hex + ".tar"}
}

// noSettings are the settings that a layer below the uppermost one has in its description.
const noSettings = `{"Hostname":"","Domainname":"","User":"","AttachStdin":false,"AttachStdout":false,"AttachStderr":false,"Tty":false,"OpenStdin":false,"StdinOnce":false,"Env":null,"Cmd":null,"Image":"","Volumes":null,"WorkingDir":"","Entrypoint":null,"OnBuild":null,"Labels":null}`

// identifiers are those that engines before version 25 give to layers, the lowest first: the hash
// of a description that names the chain of layers up to it and the identifier of the one below.
func identifiers(layers []string, moment string) (ids []string) {
	var chain, below string
	for _, layer := range layers {
		if chain == "" {
			chain = layer
		} else {
			chain = hashed(chain + " " + layer)
		}
		description := fmt.Sprintf(`{"container_config":%s,"created":%q,"layer_id":%q`, noSettings, moment, chain)
		if below != "" {
			description += fmt.Sprintf(`,"parent":%q`, below)
		}
		below = hashed(description + "}")
		ids = append(ids, strings.TrimPrefix(below, "sha256:"))
	}
	return ids
}

func hashed(text string) string { return fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(text))) }
