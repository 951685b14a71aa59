/* Lists folders with the sizes and times of their files, without the interpreter.
 *
 * An interpreter needs as long to ask for the size of one file as the system to answer. Here
 * threads that have nothing to do with it ask, many folders each, while it looks at what others
 * brought. folders.py says what is asked for, and does the same where this was not compiled.
 */
#define PY_SSIZE_T_CLEAN
#define _FILE_OFFSET_BITS 64
#define _GNU_SOURCE
#include <Python.h>

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <pthread.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

enum kind { PLAIN_FILE, FOLDER, LINK };

/* `name` is where in the text the name stands; a link's target stands behind it. */
struct entry {
    size_t name;
    long long size;
    enum kind kind;
};

struct listing {
    int error; /* errno of a folder that could not be read to its end, else 0 */
    long long newest;
    long odd;
    Py_ssize_t files;
    size_t count, room; /* entries in use, and allocated */
    struct entry *entries;
    size_t used, space; /* bytes of text in use, and allocated */
    char *text;
};

/* A block with room for `wanted` items, perhaps elsewhere than before; NULL, with nothing changed, when there is none. */
static void *grow(void *block, size_t *have, size_t wanted, size_t size)
{
    if (wanted <= *have)
        return block;
    size_t room = *have ? *have : 64;
    while (room < wanted)
        room *= 2;
    void *larger = realloc(block, room * size);
    if (larger != NULL)
        *have = room;
    return larger;
}

static bool add_text(struct listing *listing, const char *text)
{
    size_t length = strlen(text) + 1;
    char *block = grow(listing->text, &listing->space, listing->used + length, 1);
    if (block == NULL)
        return false;
    listing->text = block;
    memcpy(listing->text + listing->used, text, length);
    listing->used += length;
    return true;
}

/* Adds an entry whole or not at all. Gives an error of the listing. */
static int add(struct listing *listing, enum kind kind, const char *name, long long size, const char *target)
{
    size_t at = listing->used;
    struct entry *entries = grow(listing->entries, &listing->room, listing->count + 1, sizeof *entries);
    if (entries == NULL)
        return ENOMEM;
    listing->entries = entries;
    if (!add_text(listing, name) || (target != NULL && !add_text(listing, target)))
        return ENOMEM;
    entries[listing->count++] = (struct entry){at, size, kind};
    listing->files += kind == PLAIN_FILE;
    return 0;
}

/* Gives an error of the listing; an entry that vanished meanwhile is odd. */
static int add_entry(struct listing *listing, int folder, const struct dirent *entry)
{
    const char *name = entry->d_name;
    int type = entry->d_type;
    struct stat about;

    if (type == DT_REG || type == DT_UNKNOWN) {
        if (fstatat(folder, name, &about, AT_SYMLINK_NOFOLLOW) != 0) {
            listing->odd++;
            return 0;
        }
        type = IFTODT(about.st_mode);
    }
    if (type == DT_REG) {
        if (about.st_mtime > listing->newest)
            listing->newest = about.st_mtime;
        return add(listing, PLAIN_FILE, name, about.st_size, NULL);
    }
    if (type == DT_DIR)
        return add(listing, FOLDER, name, 0, NULL);
    if (type == DT_LNK) {
        char target[PATH_MAX + 1];
        ssize_t length = readlinkat(folder, name, target, PATH_MAX);
        if (length >= 0) {
            target[length] = '\0';
            return add(listing, LINK, name, 0, target);
        }
    }
    listing->odd++;
    return 0;
}

enum { AS_FOLDER = O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC };

/* The folder that was opened last to reach what lies in it: its path, and its handle, or -1. */
struct around {
    int home;
    int handle;
    size_t length;
    const char *path;
};

/* Opens a folder step by step from a handle, so that no link on the way is followed, whoever puts one there
 * meanwhile; -1 with errno set. */
static int descend(int from, const char *path, size_t length)
{
    int handle = openat(from, ".", AS_FOLDER); /* a duplicate would share how far it was read */
    while (handle >= 0 && length > 0) {
        const char *slash = memchr(path, '/', length);
        size_t size = slash ? (size_t)(slash - path) : length;
        char name[NAME_MAX * 4 + 1];
        if (size >= sizeof name) {
            close(handle);
            errno = ENAMETOOLONG;
            return -1;
        }
        memcpy(name, path, size);
        name[size] = '\0';
        if (strcmp(name, "") == 0 || strcmp(name, ".") == 0 || strcmp(name, "..") == 0) {
            close(handle);
            errno = EINVAL;
            return -1;
        }
        int next = openat(handle, name, AS_FOLDER), error = errno;
        close(handle);
        errno = error;
        handle = next;
        path += slash ? size + 1 : size;
        length -= slash ? size + 1 : size;
    }
    return handle;
}

/* Opens a folder below the home. Most folders lie beside the one before, in the same folder. */
static int open_below(struct around *around, const char *path)
{
    const char *slash = strrchr(path, '/');
    if (strlen(path) >= PATH_MAX) { /* no program could name it, and there may be no end to it */
        errno = ENAMETOOLONG;
        return -1;
    }
    size_t length = slash ? (size_t)(slash - path) : 0;
    if (slash == NULL)
        return descend(around->home, path, strlen(path));
    if (around->handle < 0 || around->length != length || memcmp(around->path, path, length) != 0) {
        if (around->handle >= 0)
            close(around->handle);
        around->handle = descend(around->home, path, length);
        around->path = path;
        around->length = length;
    }
    return around->handle < 0 ? -1 : openat(around->handle, slash + 1, AS_FOLDER);
}

static void list(struct around *around, const char *path, struct listing *listing, const atomic_bool *stopped)
{
    int folder = open_below(around, path);
    DIR *stream = folder < 0 ? NULL : fdopendir(folder);
    if (stream == NULL) {
        listing->error = errno;
        if (folder >= 0)
            close(folder);
        return;
    }
    while (listing->error == 0 && !*stopped) {
        errno = 0;
        const struct dirent *entry = readdir(stream);
        if (entry == NULL) {
            listing->error = errno;
            break;
        }
        if (strcmp(entry->d_name, ".") != 0 && strcmp(entry->d_name, "..") != 0)
            listing->error = add_entry(listing, folder, entry);
    }
    closedir(stream);
}

/* Appends to a list and lets go of what was appended; -1 with an exception set when that fails. */
static int append(PyObject *to, PyObject *one)
{
    int failed = one == NULL ? -1 : PyList_Append(to, one);
    Py_XDECREF(one);
    return failed;
}

static PyObject *as_tuple(const struct listing *listing)
{
    PyObject *names = PyList_New(listing->files), *sizes = PyList_New(listing->files);
    PyObject *folders = PyList_New(0), *links = PyList_New(0);
    int failed = names == NULL || sizes == NULL || folders == NULL || links == NULL;
    Py_ssize_t file = 0;

    for (size_t i = 0; i < listing->count && !failed; i++) {
        const struct entry *entry = &listing->entries[i];
        const char *text = listing->text + entry->name;
        PyObject *name = PyUnicode_DecodeFSDefault(text);
        if (entry->kind == PLAIN_FILE) {
            PyObject *size = PyLong_FromLongLong(entry->size);
            failed = name == NULL || size == NULL;
            PyList_SetItem(names, file, name); /* these take what they are given */
            PyList_SetItem(sizes, file++, size);
        } else if (entry->kind == FOLDER) {
            failed = append(folders, name);
        } else {
            PyObject *target = PyUnicode_DecodeFSDefault(text + strlen(text) + 1);
            failed = append(links, name == NULL || target == NULL ? NULL : PyTuple_Pack(2, name, target));
            Py_XDECREF(name);
            Py_XDECREF(target);
        }
    }
    PyObject *whole = failed ? NULL : Py_BuildValue(
        "iOOLOOl", listing->error, names, sizes, listing->newest, folders, links, listing->odd);
    Py_XDECREF(names);
    Py_XDECREF(sizes);
    Py_XDECREF(folders);
    Py_XDECREF(links);
    return whole;
}

/* Folders that a thread of their own lists; `paths` owns the texts. */
struct job {
    int home; /* a handle of its own */
    Py_ssize_t count;
    PyObject *paths;
    const char **texts;
    struct listing *listings;
    bool begun; /* there is a thread, and `ended` says when it is done */
    bool done;
    bool taken;
    pthread_t thread;
    pthread_mutex_t lock;
    pthread_cond_t ended;
    atomic_bool stopped; /* nobody wants the rest any more */
};

static const char JOB[] = "kettlepost.sources._folders.job";

static void *work(void *given)
{
    struct job *job = given;
    struct around around = {job->home, -1, 0, ""};
    for (Py_ssize_t i = 0; i < job->count && !job->stopped; i++)
        list(&around, job->texts[i], &job->listings[i], &job->stopped);
    if (around.handle >= 0)
        close(around.handle);
    pthread_mutex_lock(&job->lock);
    job->done = true;
    pthread_cond_signal(&job->ended);
    pthread_mutex_unlock(&job->lock);
    return NULL;
}

/* Begins, with signals left to the threads that were there before; without a thread, nothing is begun. */
static void begin(struct job *job)
{
    sigset_t all, before;
    sigfillset(&all);
    if (pthread_sigmask(SIG_SETMASK, &all, &before) != 0)
        return;
    job->begun = pthread_create(&job->thread, NULL, work, job) == 0;
    pthread_sigmask(SIG_SETMASK, &before, NULL);
}

static void discard(struct job *job)
{
    job->stopped = true;
    if (job->begun)
        pthread_join(job->thread, NULL);
    pthread_mutex_destroy(&job->lock);
    pthread_cond_destroy(&job->ended);
    for (Py_ssize_t i = 0; i < job->count && job->listings != NULL; i++) {
        free(job->listings[i].entries);
        free(job->listings[i].text);
    }
    free(job->listings);
    free(job->texts);
    if (job->home >= 0)
        close(job->home);
    Py_XDECREF(job->paths);
    free(job);
}

static void discard_capsule(PyObject *capsule)
{
    discard(PyCapsule_GetPointer(capsule, JOB));
}

static PyObject *start(PyObject *module, PyObject *arguments)
{
    int home;
    PyObject *asked;
    if (!PyArg_ParseTuple(arguments, "iO", &home, &asked))
        return NULL;
    struct job *job = calloc(1, sizeof *job);
    if (job == NULL)
        return PyErr_NoMemory();
    job->home = -1;
    pthread_mutex_init(&job->lock, NULL);
    pthread_cond_init(&job->ended, NULL);
    job->paths = PySequence_Tuple(asked); /* nobody else can change it */
    if (job->paths == NULL)
        goto failed;
    job->home = fcntl(home, F_DUPFD_CLOEXEC, 0);
    if (job->home < 0) {
        PyErr_SetFromErrno(PyExc_OSError);
        goto failed;
    }
    job->count = PyTuple_Size(job->paths);
    job->texts = calloc((size_t)job->count + 1, sizeof *job->texts);
    job->listings = calloc((size_t)job->count + 1, sizeof *job->listings);
    if (job->texts == NULL || job->listings == NULL) {
        PyErr_NoMemory();
        goto failed;
    }
    for (Py_ssize_t i = 0; i < job->count; i++) {
        char *text;
        if (PyBytes_AsStringAndSize(PyTuple_GetItem(job->paths, i), &text, NULL) < 0)
            goto failed; /* no bytes, or with a NUL in them */
        job->texts[i] = text;
    }
    PyObject *capsule = PyCapsule_New(job, JOB, discard_capsule);
    if (capsule == NULL)
        goto failed;
    begin(job);
    return capsule;
failed:
    discard(job);
    return NULL;
}

/* Waits for a moment at the most, so that signals are seen to. */
static bool wait_awhile(struct job *job)
{
    struct timespec until;
    clock_gettime(CLOCK_REALTIME, &until);
    until.tv_nsec += 100000000;
    if (until.tv_nsec >= 1000000000) {
        until.tv_nsec -= 1000000000;
        until.tv_sec++;
    }
    pthread_mutex_lock(&job->lock);
    if (!job->done)
        pthread_cond_timedwait(&job->ended, &job->lock, &until);
    bool done = job->done;
    pthread_mutex_unlock(&job->lock);
    return done;
}

static PyObject *finish(PyObject *module, PyObject *capsule)
{
    struct job *job = PyCapsule_GetPointer(capsule, JOB);
    if (job == NULL)
        return NULL;
    if (job->taken) {
        PyErr_SetString(PyExc_ValueError, "the job was finished before");
        return NULL;
    }
    job->taken = true;
    bool done = false;
    while (!done && PyErr_CheckSignals() == 0) {
        Py_BEGIN_ALLOW_THREADS
        if (!job->begun)
            work(job);
        done = wait_awhile(job);
        Py_END_ALLOW_THREADS
    }
    PyObject *all = done ? PyList_New(0) : NULL;
    for (Py_ssize_t i = 0; i < job->count && all != NULL; i++)
        if (append(all, as_tuple(&job->listings[i])) < 0)
            Py_CLEAR(all);
    return all;
}

/* What a thing that is to be renamed was when it was looked at; of a folder only `device` and `number` count. */
struct seen {
    unsigned long long device, number;
    long long size, changed, touched; /* times in nanoseconds; 0 where the last is not to be compared */
    int is_file;
};

enum { CHANGED_BEFORE = -1, CHANGED_AFTER = -2 };

static long long nanoseconds(struct timespec time)
{
    return (long long)time.tv_sec * 1000000000 + time.tv_nsec;
}

static bool is_still(const struct seen *seen, const struct stat *about, bool after)
{
    if (about->st_dev != seen->device || about->st_ino != seen->number)
        return false;
    if (!seen->is_file)
        return S_ISDIR(about->st_mode);
    return S_ISREG(about->st_mode) && about->st_size == seen->size && nanoseconds(about->st_mtim) == seen->changed
           && (after || seen->touched == 0 || nanoseconds(about->st_ctim) == seen->touched);
}

/* Renames without ever taking the place of something, also where the file system cannot promise that itself. */
static int rename_new(int from, const char *name, int to, const char *new)
{
    struct stat about;
    if (syscall(SYS_renameat2, from, name, to, new, 1 /* RENAME_NOREPLACE */) == 0)
        return 0;
    if (errno != EINVAL && errno != ENOSYS)
        return errno;
    if (fstatat(to, new, &about, AT_SYMLINK_NOFOLLOW) == 0)
        return EEXIST;
    return renameat(from, name, to, new) == 0 ? 0 : errno;
}

/* Gives 0, an errno, or that the thing was changed, before it was renamed or after, when it was given its name back. */
static int rename_seen(int from, const char *name, int to, const char *new, const struct seen *seen)
{
    struct stat about;
    if (fstatat(from, name, &about, AT_SYMLINK_NOFOLLOW) != 0)
        return errno;
    if (!is_still(seen, &about, false))
        return CHANGED_BEFORE;
    int error = rename_new(from, name, to, new);
    if (error != 0)
        return error;
    if (fstatat(to, new, &about, AT_SYMLINK_NOFOLLOW) == 0 && is_still(seen, &about, true))
        return 0;
    return rename_new(to, new, from, name) == 0 ? CHANGED_AFTER : 0; /* else it stays where it is now */
}

static PyObject *rename_all(PyObject *module, PyObject *arguments)
{
    int from, to;
    PyObject *items;
    if (!PyArg_ParseTuple(arguments, "iiO!", &from, &to, &PyList_Type, &items))
        return NULL;
    PyObject *told = PyList_New(0);
    for (Py_ssize_t i = 0; told != NULL && i < PyList_Size(items); i++) {
        const char *name, *new;
        struct seen seen;
        PyObject *item = PyList_GetItem(items, i);
        if (!PyTuple_Check(item) || !PyArg_ParseTuple(item, "yyKKLLLp", &name, &new, &seen.device, &seen.number,
                                                      &seen.size, &seen.changed, &seen.touched, &seen.is_file)
            || append(told, PyLong_FromLong(rename_seen(from, name, to, new, &seen))) < 0)
            Py_CLEAR(told);
    }
    return told;
}

static PyMethodDef methods[] = {
    {"start", start, METH_VARARGS, "start(home, paths, /)\n--\n\nBegin to list folders; see folders.py."},
    {"rename_all", rename_all, METH_VARARGS,
     "rename_all(from, to, items, /)\n--\n\nRename what is as it was seen; see folders.py."},
    {"finish", finish, METH_O, "finish(job, /)\n--\n\nWhat was listed, once; see folders.py."},
    {NULL, NULL, 0, NULL},
};

static struct PyModuleDef module = {
    PyModuleDef_HEAD_INIT, "_folders", "Folders with the sizes and times of their files.", 0, methods,
};

PyMODINIT_FUNC PyInit__folders(void)
{
    return PyModuleDef_Init(&module);
}
