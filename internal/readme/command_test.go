package readme

import (
	"fmt"
	"strings"
	"testing"
)

// TestCommands reads texts in Markdown: of each the commands, with the line and the folder.
func TestCommands(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, want string }{
		"a shell block":          {"```sh\nnpm ci\n./tool x\n```", "2 . npm ci|3 . ./tool x"},
		"a block of no language": {"```\nnpm ci\nsome output\n```", "2 . npm ci"},
		"another language":       {"```js\nnpm ci\n```", ""},
		"an indented block":      {"Then:\n\n    npm ci\n    done.\n", "3 . npm ci"},
		"prompts make the rest output": {"```console\n$ npm ci\nadded 3 packages\n> npm start\n```",
			"2 . npm ci|4 . npm start"},
		"a prompt with user and folder": {"```console\nida@quay:~/app$ npm ci\n```", "2 . npm ci"},
		"a virtual environment's prompt": {"```console\n(venv) $ pip install -r x.txt\n```",
			"2 . pip install -r x.txt"},
		"comments are left out": {"```sh\n# npm old\nnpm ci # fast\necho hello\n```", "3 . npm ci"},
		"a line goes on": {"```sh\ndocker run \\\n  -p 80:80 \\\n  web\n```",
			"2 . docker run -p 80:80 web"},
		"cd holds for the block": {"```sh\ncd web\nnpm ci\ncd ../api\nnpm " +
			"start\n```\n```sh\nnpm test\n```", "3 web npm ci|5 api npm start|8 . npm test"},
		"cd for one line": {"```sh\ncd web && npm ci\nnpm start\n```",
			"2 . cd web && npm ci|3 . npm start"},
		"entries that are commands": {"1. python -m venv venv\n2. pip install -r x.txt\n3. " +
			"flask run\n\n- npm start\n",
			"1 . python -m venv venv|2 . pip install -r x.txt|3 . flask run|5 . npm start"},
		"entries that are prose": {"- npm is used\n- go to the folder\n- run npm install\n- " +
			"make sure that it runs\n" +
			"- python is needed\n- npm install, then look\n- cargo run?\n", ""},
		"a command that reads a file": {"Fill it: `mysql -u root quay < quay.sql`",
			"1 . mysql -u root quay < quay.sql"},
		"a folder entered in a sentence": {"`cd web && npm i`, but not `cd web`",
			"1 . cd web && npm i"},
		"a list's block": {"1. First:\n\n   ```sh\n   npm ci\n   ```\n", "4 . npm ci"},
		"a span in a sentence": {"Run `npm run dev` or look at `package.json`, or call `$ make " +
			"all`.", "1 . npm run dev|1 . make all"},
		"a span that is no command": {"The `npm` tool and `node: 20`, `git@host`, `cd web`.", ""},
		"a variable before the command": {"```sh\nPORT=3000 npm start\n```",
			"2 . PORT=3000 npm start"},
		"html and tables hold no commands": {"<pre>npm ci</pre>\n\n| a |\n|---|\n| npm ci |\n", ""},
		"carriage returns":                 {"```sh\r\nnpm ci\r\n```\r\n", "2 . npm ci"},
		"an open block":                    {"```sh\nnpm ci\n", "2 . npm ci"},
		"placeholders are no spans":        {"Run `npm run <script>`.", ""},
		"folders that a shell alone knows": {"```sh\ncd $HOME/x\nnpm ci\ncd -\nnpm start\n```",
			"3 . npm ci|5 . npm start"},
		"what a clone has made is the checkout": {
			"```sh\ngit clone https://q.example/board.git\ncd board\nnpm ci\n```" +
				"\n```sh\ncd board/web\nnpm start\n```", "2 . git clone " +
				"https://q.example/board.git|4 . npm ci|8 web npm start"},
		"lines that && joins": {"```sh\nnpm ci &&\nnpm start\n```", "2 . npm ci && npm start"},
		"a text for a command": {"```sh\npsql <<SQL\nSELECT 1;\nSQL\nnpm ci\n```",
			"2 . psql <<SQL|5 . npm ci"},
		"names, failures, a shell's settings": {
			"```sh\nPORT\nnpm ERR! EACCES\nset -e\n{\n}\nDone now\nWait...\ncurl" +
				"\nnpm ci\n```", "10 . npm ci"},
		"a span that names what follows": {"### `npm run`\n\n```sh\nnpm run dev\n```",
			"4 . npm run dev"},
		"only looking round":           {"```sh\nls\npwd\ncat README.md\nmkdir x && cd x\n```", ""},
		"a line longer than anybody's": {"```sh\nnpm " + strings.Repeat("x", 500) + "\n```", ""},
		"a label in a shell block":     {"```sh\nNote: this takes long\nnpm ci\n```", "3 . npm ci"},
		"underlined headings and quotes": {"Start\n=====\n\n> ```sh\n> npm ci\n> ```\n",
			"5 . npm ci"},
		"the same command twice stays twice": {"`npm ci now` and `npm ci now`",
			"1 . npm ci now|1 . npm ci now"},
	} {
		var got []string
		for _, d := range Read("README.md", []byte(c.text)).Commands {
			got = append(got, fmt.Sprintf("%d %s %s", d.Line, d.Folder, d.Text))
		}
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s: %q, want %q", name, strings.Join(got, "|"), c.want)
		}
	}
}
