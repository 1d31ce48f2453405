package task

import "fmt"

// hopeless lists the failures that another try by itself cannot change.
var hopeless = map[string]bool{
	"others_unit": true, "elsewhere": true, "key_refused": true, "no_key": true, "other_unit": true, "twice": true, "not_as_dialect": true, "refused": true,
	"no_radio": true, "baseline": true, "invalid": true, "hub_refused": true, "not_accepted": true, "login_refused": true, "not_reachable": true, "before_undone": true, "network_refused": true,
}

// explain puts a failure's code into three parts.
func explain(code string, s Subject, f map[string]string) Failure {
	e, ok := explanations[code]
	if !ok {
		e = explanation{"A step of the work failed: " + code + ".", "Fado does not know this failure.", "Look into the service's log, then try again."}
	}
	say := func(text string) string {
		return expandText(text, map[string]string{
			"name": s.Name, "network": s.Network, "set_up": s.SetUp, "recover": s.Recover, "wake": s.Wake, "expected": s.HardwareID, "recorded": s.Model,
		}, f)
	}
	return Failure{Code: code, What: say(e.what), Cause: say(e.cause), Next: say(e.next)}
}

type explanation struct{ what, cause, next string }

var explanations = map[string]explanation{
	"no_radio": {"No radio is set up, so no access point can be joined.", "The service runs without a radio.",
		"Set «radio» in the configuration file and start the service again."},
	"radio_down": {"The radio did not answer: {detail}.", "The radio's service is stopped or busy.", "See that the radio works, then try again."},
	"not_seen": {"The access point of {name} is not on the air.", "The unit is unplugged, out of the radio's reach, or not in set-up mode.",
		"Plug it in close by. {set_up} Then try again."},
	"elsewhere": {"{name} is not in set-up mode: {where}.", "It was set up before, by somebody else or for another place.", "{set_up} Then try again."},
	"refused_by_broker": {"{name} reached the broker, which refused its account: {refused}.", "The account was changed or removed on the broker, or the unit kept another password.",
		"Bring it into set-up mode, then try again."},
	"other_topic": {"{name} joined, and speaks under «{topic}» instead of the topic that it was handed.", "It kept what somebody else had set, or its dialect writes the topic elsewhere.",
		"Bring it into set-up mode and try again; if it stays so, rehearse its dialect."},
	"no_broker": {"{name} joined «{network}», where it is at {address}, and did not reach the broker.", "The broker's address or port is wrong as seen from that network, or a firewall is between.",
		"Check the broker's address as the unit sees it, bring the unit into set-up mode, then try again."},
	"key_refused": {"The access point of {name} refused the key.", "The set-up code on record is not the one printed on this unit.",
		"Read the code on the unit's label again, correct it on the device, then try again."},
	"no_key": {"The access point of {name} wants a key, and none is on record.", "The set-up code was not entered.",
		"Enter the code that is printed on the unit, then try again."},
	"no_answer": {"The access point of {name} was joined, but nothing answered there: {detail}.", "The unit is still starting, or hangs.",
		"Wait ten seconds. If that does not help, take its power away and give it back, then try again."},
	"not_as_dialect": {"The unit answered, but not as its dialect says: {detail}.", "It runs other firmware than its model says.",
		"Check the unit's model and firmware; choose the dialect that it speaks."},
	"other_unit": {"Another unit answered: {hardware_id}; {name} is recorded with {expected}.", "Two units were swapped, or the hardware id was mistyped.",
		"Compare with the unit's label and correct the hardware id of the device, or take the right unit."},
	"others_unit": {"The unit that answered, {hardware_id}, is recorded as that of {holder}.", "Two units were mixed up.", "Take the right unit, or take the hardware id off {holder} first."},
	"other_model": {"The unit says that it is a {model_seen}; {name} is recorded as a {recorded}.", "The unit and the device were mixed up.",
		"Take a {recorded}, or change the device's model."},
	"twice":   {"Two units answer with the hardware id {expected}.", "One of them is a copy.", "Unplug one of them, then try again."},
	"invalid": {"The settings of {name} break a rule: {detail}.", "They were changed since the task was planned.", "Correct the setting, then try again."},
	"account_untried": {"The new broker account of {name} could not sign in: {detail}.", "The broker is down, has no room for another session, or refuses new accounts.",
		"See that the broker runs and how many sessions it allows, then try again; the same account is used."},
	"not_accepted": {"The unit did not take the settings: {detail}.", "Its firmware refuses one of the values.", "Read what it said, correct that setting, then try again."},
	"came_back_wifi_refused": {"{name} could not join «{network}»: the access point refused the passphrase.", "The Wi-Fi passphrase is wrong.",
		"Correct the passphrase of the network «{network}», then try again. The unit waits in set-up mode."},
	"came_back_wifi_not_found": {"{name} could not find the network «{network}». {heard}", "It is out of range of the access point, or the network's name is misspelt.",
		"Compare the name, or bring the unit closer, then try again. The unit waits in set-up mode."},
	"came_back_broker_unreachable": {"{name} joined «{network}» but could not reach the broker.", "The broker's address cannot be reached from that network.",
		"Check the broker's address as the unit sees it, then try again. The unit waits in set-up mode."},
	"came_back_broker_refused": {"{name} reached the broker, which refused its account.", "The account was changed or removed on the broker.",
		"Try again: the account is made anew. The unit waits in set-up mode."},
	"network_refused": {"«{network}» refused the passphrase when {by} tried it; {name} was not sent away with it.", "The Wi-Fi passphrase is wrong.",
		"Correct the passphrase of the network «{network}», then try again. The unit waits in set-up mode."},
	"stayed": {"{name} is still in set-up mode and has not tried to join.", "It took the settings but did not restart, or lost them.",
		"Take its power away and give it back, then try again."},
	"never_joined": {"{name} took the settings and was not seen since.", "It lost power, or joined a network from which the broker cannot be reached.",
		"See that it has power and that its light shows life, then try again."},
	"login_refused": {"The pages of {name} refused every login that Fado knows: {detail}.", "Its login was changed by somebody else, or the printed code on record is wrong.",
		"Correct the set-up code, or bring the unit back to its factory state, then try again."},
	"not_reachable": {"{name} cannot be told new settings: {detail}.", "Its firmware takes settings over its pages, and nothing leads to them.",
		"Name the site's proxy, or bring the unit into set-up mode and commission it again."},
	"unreachable": {"{name} did not answer: {detail}.", "It lost power or its network, or has another address now.", "See that it has power, then try again; what it took already is not sent twice."},
	"half_way": {"{name} did not come back after «{page}»: {detail}.", "It is still starting, or lost its power while it saved.",
		"See that it has power, then try again; Fado reads what it kept and goes on from there."},
	"never_back": {"{name} took the settings and did not come back.", "It lost power, or the new settings do not work where it is.",
		"See that it has power. If it stays away, bring it into set-up mode and commission it again."},
	"never_woke": {"{name} did not wake.", "Its battery is empty, or it is out of range.", "{wake} Then try again."},
	"went_back": {"{name} tried the new settings and went back to the old ones: {trouble}.", "With the new settings it reached no network or no broker.",
		"It works as before. Correct the network or the broker, then try again."},
	"silent": {"{name} does not answer on the broker.", "It lost power or its network.", "See that it has power, then try again."},
	"differs": {"Some settings did not arrive as they were sent: {differs}.", "The unit changed or cut the values.",
		"Compare intended and reported on the device's page and apply them again, or accept what it says; then try again."},
	"no_state": {"A command was sent to {name}; no state came back.", "The unit did not understand the command, or its topic is not the one intended.",
		"Look at the device's messages, then try again."},
	"no_reading": {"No reading of {name} came, at none of its wakes.", "Its readings are lost on the way, or it stopped waking.", "{wake} Then try again."},
	"hub_down": {"The hub could not be reached: {detail}.", "The hub is off or restarting.",
		"The thing stays queued and goes to the hub when it answers. Try again then, to have it proven."},
	"hub_refused": {"The hub refused the thing: {detail}.", "Fado's access to the hub was changed, or the hub does not accept this kind of thing.",
		"Check the hub's token under the site's settings, then try again."},
	"no_hub": {"The site has no hub.", "It was not entered.", "Add the hub to the site, then try again."},
	"baseline": {"{name} is not adopted yet: firmware {wanted} is intended, and it runs {version}. {sentence}", "The site wants its units on the intended firmware before they are adopted.",
		"Add an image that suits it, change what is intended, or let the site do without («fado site edit --baseline=false»); then try again. It works meanwhile, and keeps its settings."},
	"unfit": {"The image does not suit {name}: {sentence}", "Fit is decided before anything is sent.", "Choose another image. Nothing was sent."},
	"no_link": {"No download link could be made: {detail}.", "The image's file is missing or changed on disk, or the site has no download address.",
		"Add the image again, or set the site's download address, then try again."},
	"refused": {"{name} refused the offer: {reason}.", "The unit checks manifest, key and room before it fetches.",
		"Read what it said. Nothing was written; it runs {from}."},
	"update_refused": {"{name} refused the image: {reason}.", "Its signature, digest, class or sequence did not hold.",
		"Nothing was written. Check the image and the site's signing key."},
	"update_failed": {"{name} could not take the image: {reason}.", "The download broke off too often, or its memory failed.",
		"It still runs its old version. Check its signal, then try again; the download goes on where it stopped."},
	"stalled": {"{name} stopped taking the image and does not go on.", "It lost its network in the middle of the download.",
		"It still runs its old version. Check power and signal, then try again."},
	"reverted": {"{name} came back with {version}, not with the new version.", "The new image did not start properly, and the unit went back by itself.",
		"Withdraw the image, or read its notes for this model. The device works as before."},
	"not_taken": {"{name} still runs {version}: it did not take the image.", "It refused it by itself, or the transfer did not reach it.",
		"Nothing is lost. Check its signal and that the image is for this model, then try again."},
	"says_so": {"{name} says that it runs {version}, but its image is another one.", "Another build has the same version, or the unit was changed by somebody else.",
		"Compare its digest with the image's; update it again when you know which one it should be."},
	"something_else": {"{name} came back with {version}, which is neither the old version nor the new one.", "Somebody else updated it at the same time, or the image says another version than it is recorded with.",
		"Check the image's version, then try again."},
	"became_other": {"{name} came back as a {model}; it was a {recorded}.", "The image was built for another model.", "Withdraw the image. {recover}"},
	"lost": {"{name} took the image and never returned.", "It is dead, without power, or starts over and over.",
		"{recover}"},
	"settings_lost": {"{name} runs the new version, but lost settings: {differs}.", "The update reset them.",
		"What is intended is put back by itself; look at the task that follows."},
}

func expandText(text string, sources ...map[string]string) string {
	out := []byte{}
	for i := 0; i < len(text); i++ {
		if text[i] != '{' {
			out = append(out, text[i])
			continue
		}
		j := i + 1
		for j < len(text) && text[j] != '}' {
			j++
		}
		word, found := text[i+1:j], ""
		for _, s := range sources {
			if v := s[word]; v != "" {
				found = v
			}
		}
		if found == "" {
			found = fmt.Sprintf("(no %s)", word)
		}
		out = append(out, found...)
		i = j
	}
	return string(out)
}
