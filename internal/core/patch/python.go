package patch

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Python's imports have other names than what is installed for them, so an import is held
// against a manifest only where all of it can be read, and a likeness of names is enough.

// onTrial tells whether an import of Python stands under a condition or where its failing is caught.
func (t *text) onTrial(i int) bool {
	column := t.Column(t.Tokens[i])
	for open := i - 1; open >= 0 && column > 0; open-- {
		if open < i-maxAsked {
			return true // so far from what it stands in that it is not known
		}
		if k := t.Tokens[open]; k.First && t.Column(k) < column {
			switch t.Word(open) {
			case "try", "except", "else", "if", "elif", "with":
				return true
			}
			column = t.Column(k)
		}
	}
	return false
}

// pythonModules are the first names of the standard library's modules, of versions 3.8 to 3.14.
var pythonModules = func() map[string]bool {
	out := map[string]bool{}
	for _, n := range strings.Fields(`__future__ __main__ _thread abc aifc annotationlib antigravity argparse array ast asynchat asyncio asyncore atexit audioop base64 bdb binascii binhex bisect builtins bz2 cProfile calendar cgi cgitb chunk cmath cmd code codecs codeop collections colorsys compileall compression concurrent configparser contextlib contextvars copy copyreg crypt csv ctypes curses dataclasses datetime dbm decimal difflib dis distutils doctest dummy_threading email encodings ensurepip enum errno faulthandler fcntl filecmp fileinput fnmatch formatter fractions ftplib functools gc genericpath getopt getpass gettext glob graphlib grp gzip hashlib heapq hmac html http idlelib imaplib imghdr imp importlib inspect io ipaddress itertools json keyword lib2to3 linecache locale logging lzma macpath mailbox mailcap marshal math mimetypes mmap modulefinder msilib msvcrt multiprocessing netrc nis nntplib nt ntpath nturl2path numbers opcode operator optparse os ossaudiodev parser pathlib pdb pickle pickletools pipes pkgutil platform plistlib poplib posix posixpath pprint profile pstats pty pwd py_compile pyclbr pydoc pydoc_data pyexpat queue quopri random re readline reprlib resource rlcompleter runpy sched secrets select selectors shelve shlex shutil signal site smtpd smtplib sndhdr socket socketserver spwd sqlite3 sre_compile sre_constants sre_parse ssl stat statistics string stringprep struct subprocess sunau symbol symtable sys sysconfig syslog tabnanny tarfile telnetlib tempfile termios test textwrap this threading time timeit tkinter token tokenize tomllib trace traceback tracemalloc tty turtle turtledemo types typing unicodedata unittest urllib uu uuid venv warnings wave weakref webbrowser winreg winsound wsgiref xdrlib xml xmlrpc zipapp zipfile zipimport zlib zoneinfo`) {
		out[n] = true
	}
	return out
}()

// installedAs are the usual packages whose import has another name than what is installed.
var installedAs = map[string][]string{
	"yaml": {"pyyaml", "ruamel-yaml"}, "PIL": {"pillow"}, "cv2": {"opencv-python", "opencv-python-headless", "opencv-contrib-python"}, "sklearn": {"scikit-learn"}, "skimage": {"scikit-image"},
	"bs4": {"beautifulsoup4"}, "dateutil": {"python-dateutil"}, "dotenv": {"python-dotenv"}, "attr": {"attrs"}, "jwt": {"pyjwt"}, "git": {"gitpython"}, "serial": {"pyserial"},
	"Crypto": {"pycryptodome"}, "nacl": {"pynacl"}, "OpenSSL": {"pyopenssl"}, "usb": {"pyusb"}, "zmq": {"pyzmq"}, "fitz": {"pymupdf"}, "docx": {"python-docx"}, "pptx": {"python-pptx"},
	"magic": {"python-magic"}, "slugify": {"python-slugify"}, "multipart": {"python-multipart"}, "jose": {"python-jose"}, "ldap": {"python-ldap"}, "MySQLdb": {"mysqlclient"}, "psycopg2": {"psycopg2-binary"},
	"pkg_resources": {"setuptools"}, "setuptools": {"setuptools"}, "_pytest": {"pytest"}, "mpl_toolkits": {"matplotlib"}, "Levenshtein": {"python-levenshtein"}, "win32api": {"pywin32"}, "gi": {"pygobject"}, "wx": {"wxpython"},
	"rest_framework": {"djangorestframework"}, "google": {"protobuf"}, "websocket": {"websocket-client"}, "socks": {"pysocks"}, "dns": {"dnspython"}, "markdown_it": {"markdown-it-py"}, "ruamel": {"ruamel-yaml"},
}

// python is what the result has of Python. It is gathered when an import needs it.
type python struct {
	// manifests are the files that may declare dependencies, by folder, and declares what
	// they declare, by file; nil for one that cannot be read.
	manifests map[string][]string
	declares  map[string]map[string]bool
	// local are the first names that may be the repository's own, imported those that its
	// start imports.
	local, imported map[string]bool
	// compared is how many names were held against another.
	compared int
}

const (
	// maxSearched is how many files of the start are searched for imports; of a start
	// with more nothing is told.
	maxSearched = 1000
	// maxNames is how many names of Python are held against each other in a change.
	maxNames = 500_000
)

// pythonWithout says which manifest should declare an import and does not; "" where one
// does, or where it cannot be told.
func (w *work) pythonWithout(file, name string) string {
	if pythonModules[name] || w.in.Start == nil {
		return ""
	}
	if w.python == nil {
		w.python = w.pythonOf()
	}
	p := w.python
	if p.local[name] || p.imported == nil || p.imported[name] {
		return ""
	}
	found := ""
	for dir := path.Dir(file); ; dir = path.Dir(dir) {
		for _, manifest := range p.manifests[dir] {
			declares := p.declares[manifest]
			p.compared += len(declares)
			if declares == nil || p.compared > maxNames {
				return ""
			}
			for d := range declares {
				if installs(d, name) {
					return ""
				}
			}
			if len(declares) > 0 {
				found = cmp.Or(found, manifest+" does not declare "+name)
			}
		}
		if dir == "." || dir == "/" {
			return found
		}
	}
}

// pythonImport is an import, as it is found without taking a text apart.
var pythonImport = regexp.MustCompile(`(?m)^[ \t]*(?:from[ \t]+(\w+)|import[ \t]+([\w., \t]+))`)

// pythonOf gathers what the result has of Python.
func (w *work) pythonOf() *python {
	p := &python{manifests: map[string][]string{}, declares: map[string]map[string]bool{}, local: map[string]bool{}, imported: map[string]bool{}}
	searched := 0
	for _, name := range w.in.Start {
		if p.imported == nil || !strings.HasSuffix(name, ".py") {
			continue
		}
		if searched++; searched > maxSearched {
			p.imported = nil
			return p
		}
		for _, m := range pythonImport.FindAllSubmatch(w.in.Read(Before, name), -1) {
			p.imported[string(m[1])] = true
			for part := range strings.SplitSeq(string(m[2]), ",") {
				first, _, _ := strings.Cut(strings.TrimSpace(part), " ")
				first, _, _ = strings.Cut(first, ".")
				p.imported[first] = true
			}
		}
	}
	take := func(name string) {
		if slices.Contains([]string{".py", ".pyi", ".pyx"}, path.Ext(name)) {
			for part := range strings.SplitSeq(strings.TrimSuffix(name, path.Ext(name)), "/") {
				p.local[part] = true
			}
		}
		dir := path.Dir(name)
		switch {
		case isRequirements(name):
			if path.Base(dir) == "requirements" {
				dir = path.Dir(dir)
			}
		case slices.Contains([]string{"pyproject.toml", "setup.py", "setup.cfg", "Pipfile", "environment.yml", "environment.yaml"}, path.Base(name)):
		default:
			return
		}
		if src := w.in.Read(After, name); src != nil {
			p.manifests[dir] = append(p.manifests[dir], name)
			p.declares[name] = manifest(name, src)
		}
	}
	for _, name := range w.in.Start {
		take(name)
	}
	for _, c := range w.files {
		if c.Status == Added || c.Status == Renamed {
			take(c.Path)
		}
	}
	return p
}

// installs tells whether what a manifest declares may bring an import: whether the names
// are much alike, or known to belong together.
func installs(declared, name string) bool {
	plain := pythonName(name)
	short := strings.ReplaceAll(plain, "-", "")
	return declared == plain || slices.Contains(installedAs[name], declared) || len(short) >= 3 && strings.Contains(strings.ReplaceAll(declared, "-", ""), short) || len(declared) >= 4 && strings.HasPrefix(plain, declared)
}
