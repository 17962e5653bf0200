package check

import "slices"

// Code is what kind a finding is of: what it is accepted and explained by.
type Code string

// The kinds of findings, in the order of their explanations below.
const (
	CodeGivenMissing        Code = "given-missing"
	CodePartMissing         Code = "part-missing"
	CodeScriptDirectory     Code = "script-directory"
	CodeScriptProgram       Code = "script-program"
	CodeSeenFromElsewhere   Code = "seen-from-elsewhere"
	CodeNotHanded           Code = "not-handed"
	CodeDirectoryMissing    Code = "directory-missing"
	CodeStartFileMissing    Code = "start-file-missing"
	CodePortBusy            Code = "port-busy"
	CodePortShared          Code = "port-shared"
	CodeVersionUnknown      Code = "version-unknown"
	CodeRuntimeUnfit        Code = "runtime-unfit"
	CodeServerUnfit         Code = "server-unfit"
	CodeLoaderUnfit         Code = "loader-unfit"
	CodeNeverReached        Code = "never-reached"
	CodeFileMissing         Code = "file-missing"
	CodeFileUnreadable      Code = "file-unreadable"
	CodeLineUnreadable      Code = "line-unreadable"
	CodeLineMistyped        Code = "line-mistyped"
	CodeListUnreadable      Code = "list-unreadable"
	CodeIncludeMissing      Code = "include-missing"
	CodeIncludeAgain        Code = "include-again"
	CodeIncludeOutside      Code = "include-outside"
	CodeIncludeDeep         Code = "include-deep"
	CodeEncodingWrong       Code = "encoding-wrong"
	CodeMergeUnfinished     Code = "merge-unfinished"
	CodeDataUnreadable      Code = "data-unreadable"
	CodeDataUnmerged        Code = "data-unmerged"
	CodeDataDiffers         Code = "data-differs"
	CodeDataLeft            Code = "data-left"
	CodeStepLeft            Code = "step-left"
	CodeDatabaseUnset       Code = "database-unset"
	CodeDatabaseAway        Code = "database-away"
	CodeDatabaseRefused     Code = "database-refused"
	CodeDatabaseMissing     Code = "database-missing"
	CodeIconUnreadable      Code = "icon-unreadable"
	CodeIconSize            Code = "icon-size"
	CodePlacesDisagree      Code = "places-disagree"
	CodeLaunchLong          Code = "launch-long"
	CodeLaunchTooLong       Code = "launch-too-long"
	CodeSettingMissing      Code = "setting-missing"
	CodeSettingPlaceholder  Code = "setting-placeholder"
	CodeSettingTemplate     Code = "setting-template"
	CodeSettingRefused      Code = "setting-refused"
	CodeSettingNamesNothing Code = "setting-names-nothing"
	CodeSettingOverruled    Code = "setting-overruled"
	CodeSettingUndone       Code = "setting-undone"
	CodeSettingRisky        Code = "setting-risky"
	CodeSettingLate         Code = "setting-late"
	CodeSettingUnset        Code = "setting-unset"
	CodeNotRegistered       Code = "not-registered"
	CodeLoadsAnyway         Code = "loads-anyway"
	CodeModMissing          Code = "mod-missing"
	CodeModCase             Code = "mod-case"
	CodeModRenamed          Code = "mod-renamed"
	CodeModSuffix           Code = "mod-suffix"
	CodeModNested           Code = "mod-nested"
	CodeModBundle           Code = "mod-bundle"
	CodeFolderEmpty         Code = "folder-empty"
	CodeFolderForeign       Code = "folder-foreign"
	CodeGroupEmpty          Code = "group-empty"
	CodeMainMissing         Code = "main-missing"
	CodeManifestUnreadable  Code = "manifest-unreadable"
	CodeScriptBroken        Code = "script-broken"
	CodeNameForbidden       Code = "name-forbidden"
	CodeNameDiffers         Code = "name-differs"
	CodeNameBlank           Code = "name-blank"
	CodeNameTwice           Code = "name-twice"
	CodeReleaseOlder        Code = "release-older"
	CodeNameNearlyTwice     Code = "name-nearly-twice"
	CodeRegisteredTwice     Code = "registered-twice"
	CodeValueUnknown        Code = "value-unknown"
	CodePathWrong           Code = "path-wrong"
	CodeSideWrong           Code = "side-wrong"
	CodeNumberDiffers       Code = "number-differs"
	CodeKeyMissing          Code = "key-missing"
	CodeKeyDiffers          Code = "key-differs"
	CodeMadeForAnother      Code = "made-for-another"
	CodeFailedBefore        Code = "failed-before"
	CodeStartRefuted        Code = "start-refuted"
	CodeProbeFault          Code = "probe-fault"
	CodeSaysNothing         Code = "says-nothing"
	CodeWillFail            Code = "will-fail"
	CodeStrayEmpty          Code = "stray-empty"
	CodeStrayNested         Code = "stray-nested"
	CodeStrayFolder         Code = "stray-folder"
	CodeLeftover            Code = "leftover"
	CodeNeedMissing         Code = "need-missing"
	CodeNeedLate            Code = "need-late"
	CodeAskedLate           Code = "asked-late"
	CodeNeedVersion         Code = "need-version"
	CodeNeedFails           Code = "need-fails"
	CodeNeedCircle          Code = "need-circle"
	CodeNeedItself          Code = "need-itself"
	CodeRangeUnreadable     Code = "range-unreadable"
	CodeConflict            Code = "conflict"
	CodeSameWork            Code = "same-work"
	CodeRuleBroken          Code = "rule-broken"
	CodeRuleApart           Code = "rule-apart"
	CodeRuleIdle            Code = "rule-idle"
)

// Explanation tells what a kind of finding is.
type Explanation struct {
	Code  Code   `json:"code"`
	What  string `json:"what"`  // what it is
	Shows string `json:"shows"` // how it shows in a log, or does not
	Do    string `json:"do"`    // what to do
}

// Explain returns the explanation of a code.
func Explain(code Code) (Explanation, bool) {
	i := slices.IndexFunc(explanations, func(e Explanation) bool { return e.Code == code })
	if i < 0 {
		return Explanation{}, false
	}
	return explanations[i], true
}

// Codes lists all codes.
func Codes() []Code {
	codes := make([]Code, len(explanations))
	for i, e := range explanations {
		codes[i] = e.Code
	}
	return codes
}

var explanations = slices.Concat(startExplained, fileExplained, settingExplained, modExplained, needExplained, ruleExplained)

var startExplained = []Explanation{
	{CodeScriptDirectory, "The script or unit that starts the server goes to a folder that is not there.",
		"\"No such file or directory\", or the server finds nothing of its own.", "Mend the folder in the script; from the script's own, cd \"$(dirname \"$0\")\" is always right."},
	{CodeScriptProgram, "The script or unit runs a program that is not there, or that cannot be run.",
		"\"Not found\" or \"permission denied\", and the script ends.", "Mend the path, seen from the folder in which it runs, or let the file be run (chmod +x)."},
	{CodeSeenFromElsewhere, "A path in the start is relative, and leads to nothing from the folder in which the server runs; from another one it would.",
		"\"Nothing found\", or a server that starts with what it has by itself.", "Go to that folder before, or write the whole path."},
	{CodeNotHanded, "The start does not name a startup file that the server reads only when it is handed over.",
		"A key that is said to be missing, mods that are not there: the server starts without its settings.", "Name the file in the start, as the family wants it."},
	{CodePartMissing, "The build or the runtime that a start script or another file names is not there, or two files name different ones.",
		"The server does not start, or starts with another build than one thinks.", "Use one that is there, or lay it there."},
	{CodeGivenMissing, "Something that the start command is made of has no value, or names what is not there: the program, a folder, a file.",
		"The server does not start at all, or says that something was not found.", "Give the server that value."},
	{CodeDirectoryMissing, "The folder in which the server is started does not exist.",
		"Nothing: the program never runs.", "Adopt the server with the folder that it is in now."},
	{CodeStartFileMissing, "The start command hands over a file that is not there, seen from the working directory. Program, directory and file are only right together.",
		"\"Not found\", \"nothing to read\" or a missing key, which sends people looking in the wrong place.", "Put the file there, or name the right one when the server is adopted."},
	{CodePortBusy, "Another program, or another server of yours, has the port open.",
		"\"Address in use\" or \"failed to bind\", often only after all mods have loaded.", "Stop what holds the port, or change the port; the finding names a free one."},
	{CodePortShared, "Another adopted server has the same port. As long as only one runs, nothing is wrong.",
		"Nothing, until both are started.", "Give one of them another port."},
	{CodeVersionUnknown, "The dialect says how to find a version out, and it could not be.",
		"Nothing.", "See what the finding says; mods made for another version cannot be told until then."},
	{CodeRuntimeUnfit, "The runtime that the server runs on is not of a version that this family needs.",
		"The server stops at once, often with a line about an unsupported version.", "Install the runtime that the finding names."},
	{CodeServerUnfit, "The server's build is not of a version that this dialect is for.",
		"Anything: options it does not know, mods that fail.", "Use the build that the finding names."},
	{CodeLoaderUnfit, "The loader, the layer that makes the server accept mods, is of another version than this family needs.",
		"Mods are skipped, or all of them fail.", "Install the loader that the finding names."},
	{CodeNeverReached, "The server will stop because of another mod, before it comes to this one.",
		"The log ends before this mod is named.", "Mend the mod that stops the server."},
}

var fileExplained = []Explanation{
	{CodeFileMissing, "The file that registers mods is not there.", "The server complains, or starts without mods.", "Register the first mod: Initium makes the file."},
	{CodeFileUnreadable, "A startup file cannot be read: no right to, too large, or no text.", "The server complains, or starts without mods.", "Look at the file's rights and at what it is."},
	{CodeLineUnreadable, "A line of a startup file is not what the family writes there.", "Often nothing: many servers pass such lines over.", "Mend the line; the finding says what was expected."},
	{CodeLineMistyped, "A word of a line is a letter or two off, and what it was to register is there and not registered.", "Nothing: the server passes the line over, and the mod does not load.", "Plan the remedy: it writes the word as it is meant."},
	{CodeListUnreadable, "The list of mods cannot be understood: a bracket, a quote, or the whole place is missing.", "No mod of the list loads.", "Mend the place that the finding names."},
	{CodeIncludeMissing, "A startup file reads another one that is not there.", "\"Cannot open\", or nothing; the mods in it are not loaded.", "Put the file there or take the line out."},
	{CodeIncludeAgain, "A startup file is read a second time.", "Mods are named twice.", "Take the second line out."},
	{CodeIncludeOutside, "A startup file outside the server's folder is read; Initium leaves that one alone.", "Nothing.", "Move the file into the server's folder if its mods are to be looked after."},
	{CodeIncludeDeep, "Startup files read each other, deeper than makes sense.", "The server hangs, or stops with a line about recursion.", "Take the line out that closes the ring."},
	{CodeEncodingWrong, "An editor saved the file in an encoding that the server does not read, or put a byte-order mark in front.", "The first line is not understood, or the whole file is.", "Save the file as UTF-8, without a mark."},
	{CodeMergeUnfinished, "The file still holds the marks of a merge of two versions.", "Lines that are not understood; mods of both versions.", "Keep the side that is meant and take the marks out."},
	{CodeDataUnreadable, "A data file of the server is not well formed.", "A parser's message with a line number, and often a stop.", "Mend the file at the place that the finding names."},
	{CodeDataUnmerged, "A mod ships entries for a table of the server, and the table has not got them.", "Nothing at first; what players build with them vanishes later.", "Plan the remedy: it adds them, in the table's own layout."},
	{CodeDataDiffers, "A table has an entry otherwise than a mod ships it: somebody has changed it, or another mod brings the same.", "Nothing.", "See both side by side, and accept the finding if yours is meant."},
	{CodeDataLeft, "A table has entries of a mod that is not on the server any more.", "A line about something that is not known, or nothing.", "Plan the remedy: it takes those out that nobody has changed since."},
	{CodeStepLeft, "A mod that was taken in came with something that Initium does not do, such as a script for a database.", "It depends on the mod: a line about a table that is missing, or nothing.", "Do it, and accept the finding with what you did."},
	{CodeDatabaseUnset, "The setting that says how the server's database is reached is not there, or cannot be understood.", "The server stops, or a mod fails at its first question to the database.", "Set it: initium set SERVER NAME VALUE."},
	{CodeDatabaseAway, "Nobody answers at the place where the settings say that the database is.", "Long waiting, then a line about a connection that was refused or ran out of time.", "Start the database server, or set its host and port right."},
	{CodeDatabaseRefused, "The database server does not let in the user that the settings name.", "A line about access that was denied.", "Set user and password right, or give the user his rights on the database server."},
	{CodeDatabaseMissing, "The database server answers, and has no database of the name that the settings say.", "A line about an unknown database.", "Make the database on its server, or set its name right."},
	{CodeIconUnreadable, "The icon is no picture that can be read.", "A warning, or nothing: the server shows without an icon.", "Put a PNG there."},
	{CodeIconSize, "The icon has another size than the one that the server takes.", "A warning, or nothing: the server shows without an icon.", "Scale the picture."},
	{CodePlacesDisagree, "Two places have to name the same mods, and do not.", "It depends on which of the two the server reads this time.", "Plan the remedy: it makes the copy the same as the first."},
	{CodeLaunchLong, "The launch line has nearly as many characters as the shell takes.", "Nothing yet.", "Keep it shorter."},
	{CodeLaunchTooLong, "The launch line is longer than the shell that runs it takes.", "\"Line too long\", or a list that is cut off in the middle of a name.", "Switch mods off, or hand the list over in a file."},
}

var settingExplained = []Explanation{
	{CodeSettingMissing, "A setting that the server cannot do without is not set.", "A line about a missing key, or a server that does less than it should.", "Give it its value."},
	{CodeSettingPlaceholder, "A setting still holds the value of the template: the commonest reason for a first start that fails.", "A line about a key that is not valid.", "Give it its value."},
	{CodeSettingTemplate, "A value looks like the words of a template, such as \"change me\".", "It depends on the setting.", "Give it its value, or accept it if it is meant so."},
	{CodeSettingRefused, "A setting has a value that it cannot have.", "A line about the value, or the server's own choice instead of yours, without a word.", "Choose one that the finding names."},
	{CodeSettingNamesNothing, "A setting names a file, such as a map, that is not there.", "\"Not found\", and often a stop.", "Choose one that is there."},
	{CodeSettingOverruled, "A setting is set twice with different values; the later one counts.", "Nothing.", "Keep the line that is meant."},
	{CodeSettingUndone, "A narrow setting is undone by a broad one elsewhere: the broad one wins.", "Nothing: what was switched off stays on.", "Take the broad one away or make it narrower."},
	{CodeSettingRisky, "A setting opens the server to cheating, or keeps a mod from working.", "Nothing.", "Set it otherwise, or accept the finding with your reason."},
	{CodeSettingLate, "A mod reads a setting when it starts, and the setting stands below its line.", "The mod uses its built-in value, or stops the server.", "Plan the remedy: it moves the line below the setting."},
	{CodeSettingUnset, "A mod reads a setting when it starts, and nothing sets it.", "The mod uses its built-in value, or stops the server.", "Set it above the mod's line."},
}

var modExplained = []Explanation{
	{CodeNotRegistered, "A mod is there and nothing registers it.", "Nothing, or that it loads anyway.", "Register it if it is wanted."},
	{CodeLoadsAnyway, "A mod is switched off but loads because of the folder that it is in.", "It loads.", "Move its folder elsewhere."},
	{CodeModMissing, "A registered mod is not there.", "\"Not found\", \"could not be found\"; few servers stop.", "Take the mod in, or correct the name: the finding names one that is nearly the same."},
	{CodeModCase, "A registered name differs from the mod's in capitals.", "\"Not found\" on this machine, and none on another where capitals do not matter.", "Plan the remedy: it writes the exact name."},
	{CodeModRenamed, "The folder's name is registered, but the mod in it calls itself otherwise.", "\"Not found\".", "Plan the remedy: it registers the mod's own name."},
	{CodeModSuffix, "An archive's or branch's ending was left on a folder or a name.", "\"Not found\".", "Rename the folder, or plan the remedy."},
	{CodeModNested, "The mod lies one folder too deep, as archives leave it that bring their own folder.", "\"Not found\", or a mod without its main file.", "Move it up."},
	{CodeModBundle, "A bundle is registered where its mods have to be, one by one.", "\"Not found\".", "Register the mods that are wanted."},
	{CodeFolderEmpty, "The mod's folder holds nothing.", "\"Not found\" or a failure to load.", "Put its files there."},
	{CodeFolderForeign, "There is a folder of that name, and nothing in it says that it is a mod.", "\"Not found\".", "Take the mod in again."},
	{CodeGroupEmpty, "A category folder is registered and holds no mod.", "Nothing, or a line that nothing was found.", "Put mods into it or take the line out."},
	{CodeMainMissing, "The file without which the mod cannot load is missing.", "A failure to open that file, often a stop.", "Take the mod in again; its files are not complete."},
	{CodeManifestUnreadable, "The mod's description of itself cannot be read.", "A parser's message, or the mod is passed over.", "Mend it at the place named, or take the mod in again."},
	{CodeScriptBroken, "A script of the mod has a mistake in it that keeps it from being read.", "The script's message with a line number, and often a stop.", "Mend it at the place named, or take the mod in again."},
	{CodeNameForbidden, "The name has characters that the family does not allow.", "A line about the name, often a stop.", "Rename the mod."},
	{CodeNameDiffers, "Folder and manifest name the mod differently where they have to agree.", "The mod is turned away, or others do not find it.", "Rename the folder."},
	{CodeNameBlank, "A name in the list has a blank before or after it.", "\"Not found\", for a name that looks right.", "Plan the remedy: it takes the blank out."},
	{CodeNameTwice, "Two mods have one name; one of them hides the other.", "Nothing, a warning, or a stop, by the family.", "Remove the one that is not meant."},
	{CodeNameNearlyTwice, "Two names differ in nothing but capitals: on some machines they are one folder.", "Nothing here.", "Rename one before the server moves to another machine."},
	{CodeRegisteredTwice, "A mod is registered twice.", "Nothing, or a complaint about the second time.", "Plan the remedy: it keeps the first."},
	{CodeValueUnknown, "A yes/no key has a value that means neither to the server.", "\"Not found\", or the mod is silently off.", "Plan the remedy: it writes the family's word."},
	{CodePathWrong, "A mod is registered with a path, and it is at another one.", "\"Not found\", and often where the mod is instead.", "Plan the remedy: it registers the mod without a path."},
	{CodeReleaseOlder, "An older release of a mod lies beside the one that the server takes.", "Nothing.", "Remove it once the newer one has proved itself: if that goes, the server takes the old one."},
	{CodeSideWrong, "A mod that only the server has is on the list for players too, or the other way round.", "The mod is turned away; or players are.", "Plan the remedy: it puts the mod on its list."},
	{CodeNumberDiffers, "The catalogue number beside the name is not the mod's.", "Another mod is fetched, or the mod is turned away.", "Plan the remedy: it writes the number."},
	{CodeKeyMissing, "The key file that the mod brings is not among the server's own.", "Players are turned away, or the mod is.", "Copy the key into the server's folder for keys."},
	{CodeKeyDiffers, "The server has a key of this name with other contents.", "Players are turned away, or the mod is.", "Find out which is current before one replaces the other."},
	{CodeMadeForAnother, "The mod is made for another version of the server, another loader, or another runtime.", "It is passed over, fails, or breaks the server.", "Take in a release that is made for this one."},
	{CodeProbeFault, "The server's own command that looks through its startup files finds a mistake there.", "Usually the same, when the server is started.", "Go to the place that is named, and mend it."},
	{CodeStartRefuted, "The last start was not proved; since then no file, no setting, no build and nothing in the order has changed.", "The same as then.", "Mend what the proof tells of. If the cause was outside, such as a port that was taken, start it again."},
	{CodeFailedBefore, "At an earlier start the mod failed, and what it rests on is the same as then.", "The same message as then.", "Switch it off, or take another release in; what the log said is in the finding."},
	{CodeSaysNothing, "The mod loads without a word in the log.", "Nothing.", "Nothing needs to be done; look for what it does in the game."},
	{CodeWillFail, "The mod will not load, for the reason given.", "As the reason says.", "See the reason."},
	{CodeStrayEmpty, "There is an empty folder among the mods.", "Nothing.", "Remove it."},
	{CodeStrayNested, "There is a folder among the mods that holds one a folder deeper.", "Nothing; the mod is not found.", "Move it up."},
	{CodeStrayFolder, "There is a folder among the mods that is none.", "Nothing, or a warning.", "Move it elsewhere if it is not meant."},
	{CodeLeftover, "A folder looks like a kept copy of a mod. Copies among the mods cause faults that look like mysteries.", "Nothing, or two mods of one name.", "Move it out of the mods' folder."},
}

var needExplained = []Explanation{
	{CodeNeedMissing, "A mod cannot do without another that is not there, not registered, or off.", "A line that names what is wanted; the mod does not load.", "Take the other in, register it or switch it on."},
	{CodeNeedLate, "A mod loads before one that it needs or uses.", "The same as if the other were missing.", "Plan the remedy: the fewest moves that bring the order right."},
	{CodeAskedLate, "A mod asks to load before or after another, without needing it, and does not.", "Often nothing; features that should work together do not.", "Plan the remedy."},
	{CodeNeedVersion, "What a mod needs is there in a version that will not do.", "A line about the version, or errors deep inside the mod.", "Take in a release that fits."},
	{CodeNeedFails, "What a mod needs will not load itself.", "A line that names what is wanted.", "Mend that one first."},
	{CodeNeedCircle, "Mods have to come before each other. No order can be right.", "All of them fail, or the server stops.", "Switch one off, or take a rule back."},
	{CodeNeedItself, "A mod names itself among its needs.", "Nothing, or it never loads.", "Take the name out of its manifest."},
	{CodeRangeUnreadable, "A version range in a manifest cannot be understood.", "Nothing, or a parser's message.", "Mend the manifest; until then any version counts as right."},
	{CodeConflict, "A mod says that it cannot be with another that is on.", "A line that says so, or errors deep inside one of them.", "Switch one of them off."},
	{CodeSameWork, "Two mods do the same work under the same name.", "Nothing, or the later one wins.", "Keep one of them."},
}

var ruleExplained = []Explanation{
	{CodeRuleBroken, "The order is not as one of your rules wants it.", "What you wrote the rule for.", "Plan the remedy, or take the rule back."},
	{CodeRuleApart, "Two mods are on that one of your rules keeps apart.", "What you wrote the rule for.", "Switch one off, or take the rule back."},
	{CodeRuleIdle, "A rule names a mod that is not on this server.", "Nothing.", "Correct the name, or take the rule back."},
}
