package plan

// Where a workspace finds the narrow door to its site's engine.
const (
	DoorFolder = "/run/domicile-door"
	DoorSocket = DoorFolder + "/engine.sock"
)

// openDoor gives the workspace the door, and its programs the variable by which clients of
// the Engine API find it, unless the definition has set that.
func (p *Plan) openDoor() {
	p.Container.Door = true
	if _, set := p.Session.Env["DOCKER_HOST"]; set {
		return
	}
	env := map[string]*string{"DOCKER_HOST": new("unix://" + DoorSocket)}
	for name, value := range p.Session.Env {
		env[name] = value
	}
	p.Session.Env = env
}
