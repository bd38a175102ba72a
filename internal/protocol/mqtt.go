package protocol

import (
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// mqtt is MQTT 3.1.1 (its specification, section 3.1), which every later server still answers.
var mqtt = &Protocol{
	Name:     "mqtt",
	Ports:    []int{1883},
	Programs: []string{"mosquitto"},
	Drivers: []string{"mqtt", "paho-mqtt", "aiomqtt", "github.com/eclipse/paho.mqtt.golang",
		"rumqttc", "MQTTnet", "org.eclipse.paho:org.eclipse.paho.client.mqttv3"},
	Scheme:  "mqtt",
	images:  expr.New(`mosquitto|^emqx|hivemq`),
	schemes: expr.New(`^mqtts?$`),
	implied: map[string]int{"mqtts": 8883},
	keys:    expr.New(`(?i)(^|[_.-])(mqtt|broker)`),
	hello:   mqttHello,
	reply:   mqttReply,
}

// mqttHello connects without a name, in a clean session that ends with the connection.
const mqttHello = "\x10\x0c\x00\x04MQTT\x04\x02\x00\x0a\x00\x00"

func mqttReply(b []byte) (answer, bool) {
	if len(b) < 4 || b[0] != 0x20 || b[1] < 2 {
		return answer{}, false
	}
	a := answer{verdict: stack.Answers, speaks: "mqtt"} // 4 and 5 ask for a sign-in
	if b[3] == 3 {
		a.verdict, a.says = stack.Errs, "it says that its service is not available"
	}
	return a, true
}
