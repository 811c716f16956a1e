package patch

import (
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
	for open := i - 1; open >= 0 && column > 0 && open > i-maxBlock; open-- {
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

// pythonWithout is a manifest that should declare an import and does not; "" where one
// does, or where it cannot be told.
func (w *work) pythonWithout(file, name string) string {
	if pythonModules[name] || w.in.Start == nil || w.pythonLocal(name) {
		return ""
	}
	found := ""
	for dir := path.Dir(file); ; dir = path.Dir(dir) {
		for _, manifestName := range w.pythonManifests()[dir] {
			src := w.in.Read(After, manifestName)
			declares := manifest(manifestName, src)
			if declares == nil {
				return "" // it cannot be read
			}
			for d := range declares {
				if installs(d, name) {
					return ""
				}
			}
			if len(declares) > 0 && found == "" || strings.Contains(string(src), "[project]") {
				found = manifestName
			}
		}
		if dir == "." || dir == "/" {
			break
		}
	}
	if found != "" && w.importedBefore(name) {
		return ""
	}
	return found
}

// maxSearched is how many files of the start are searched for an import.
const maxSearched = 1000

// importedBefore tells whether a file of the start imports something already: then it is
// there, whatever brings it. Of very many files it says yes.
func (w *work) importedBefore(name string) bool {
	imports := regexp.MustCompile(`(?m)^\s*(import|from)\s+([\w.]+\s*,\s*)*` + regexp.QuoteMeta(name) + `\b`)
	searched := 0
	for _, file := range w.in.Start {
		if !strings.HasSuffix(file, ".py") {
			continue
		}
		if searched++; searched > maxSearched || imports.Match(w.in.Read(Before, file)) {
			return true
		}
	}
	return false
}

// installs tells whether what a manifest declares may bring an import: whether the names
// are much alike, or known to belong together.
func installs(declared, name string) bool {
	plain := pythonName(name)
	short := strings.ReplaceAll(plain, "-", "")
	return declared == plain || slices.Contains(installedAs[name], declared) || len(short) >= 3 && strings.Contains(strings.ReplaceAll(declared, "-", ""), short) || len(declared) >= 4 && strings.HasPrefix(plain, declared)
}

// pythonManifests are the files of the result that may declare dependencies of Python, by
// folder. What stands beside is a folder's too: in requirements/ and the like.
func (w *work) pythonManifests() map[string][]string {
	if w.manifests == nil {
		w.manifests = map[string][]string{}
		w.eachOfResult(func(name string) {
			base, dir := path.Base(name), path.Dir(name)
			switch {
			case isRequirements(name) && path.Base(dir) == "requirements":
				w.manifests[path.Dir(dir)] = append(w.manifests[path.Dir(dir)], name)
			case isRequirements(name), slices.Contains([]string{"pyproject.toml", "setup.py", "setup.cfg", "Pipfile", "environment.yml", "environment.yaml"}, base):
				w.manifests[dir] = append(w.manifests[dir], name)
			}
		})
	}
	return w.manifests
}

// pythonLocal tells whether a first name of an import may be one of the repository's own.
func (w *work) pythonLocal(name string) bool {
	if w.local == nil {
		w.local = map[string]bool{}
		w.eachOfResult(func(file string) {
			stem, is := strings.CutSuffix(file, ".py")
			if !is {
				if stem, is = strings.CutSuffix(file, ".pyi"); !is {
					if stem, is = strings.CutSuffix(file, ".pyx"); !is {
						return
					}
				}
			}
			for part := range strings.SplitSeq(stem, "/") {
				w.local[part] = true
			}
		})
	}
	return w.local[name]
}

// eachOfResult calls for the files of the start and those that the change adds.
func (w *work) eachOfResult(do func(name string)) {
	for _, name := range w.in.Start {
		do(name)
	}
	for _, c := range w.files {
		if c.Status == Added || c.Status == Renamed {
			do(c.Path)
		}
	}
}
