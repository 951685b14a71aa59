# `make demo` and `make test` do everything on a fresh machine: they make .venv and install into it.
PYTHON ?= python3
BIN := .venv/bin
LINT := .venv/lint/bin
BUILT := pyproject.toml setup.py src/kettlepost/sources/_folders.c

.PHONY: trials demo test proof conformance mutants lint fuzz bench recognition docs told clean

.venv/installed: $(BUILT)
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[test]'
	touch $@

# apart, as what checks the code brings packages that the program would load where it finds them
.venv/lint/installed: .venv/installed
	$(PYTHON) -m venv .venv/lint
	$(LINT)/pip install --quiet --disable-pip-version-check --editable '.[test,lint]'
	touch $@

demo: .venv/installed
	rm -rf build/demo
	$(BIN)/kettlepost demo build/demo

# in parallel and in random order; what takes long is left to the proof
test: .venv/installed
	$(BIN)/pytest -n auto --dist worksteal -m "not proof"

# types tell of messages that are put into a text, which fails when it is run
proof: .venv/installed .venv/lint/installed
	$(LINT)/python tests/messages_in_texts.py
	KETTLEPOST_PROOF=1 $(BIN)/pytest -n auto --dist worksteal

# 200 rounds of four who keep passwords at once, each call that writes refused, and every way out of 200 grown accounts
# carried out, and a wish on each; 540 plans on each server are probed; of those each is told when it is done, and KETTLEPOST_SEED goes on from there: hours
trials: .venv/installed
	KETTLEPOST_ACCOUNTS=$${KETTLEPOST_ACCOUNTS:-200} KETTLEPOST_PROOF=1 $(BIN)/pytest -v -p no:randomly tests/test_robot.py
	for seed in $$(seq 8000 1000 19000); do KETTLEPOST_SEED=$$seed KETTLEPOST_PROBED=45 KETTLEPOST_PROOF=1 \
		$(BIN)/pytest -q tests/test_probing.py -k random_plans || exit 1; done
	for seed in $$(seq 1 10 41); do KETTLEPOST_SEED=$$seed KETTLEPOST_TOWNS=10 KETTLEPOST_PROOF=1 \
		$(BIN)/pytest -q -n auto tests/test_probing.py -k mended_as_told || exit 1; done
	for seed in $$(seq 30000 1000 37000); do KETTLEPOST_SEED=$$seed KETTLEPOST_MOVES=250 KETTLEPOST_PROOF=1 \
		$(BIN)/pytest -q tests/test_moving.py -k real_server || exit 1; done
	KETTLEPOST_REHEARSALS=200 KETTLEPOST_PROOF=1 $(BIN)/pytest -q -n auto tests/test_rehearsing.py || exit 1
	KETTLEPOST_BROUGHT=200 KETTLEPOST_PROOF=1 $(BIN)/pytest -q -n auto tests/test_between_accounts.py || exit 1
	KETTLEPOST_ROUNDS=200 KETTLEPOST_PROOF=1 $(BIN)/pytest -q tests/test_trust.py tests/test_set_asides.py

# answers held against a real Apache on accounts that nobody looked at: another seed each day, which is told
conformance: .venv/installed
	seed=$$(date +%Y%m%d); echo "seed $$seed"; \
	for part in $$(seq 1 47); do \
		KETTLEPOST_PROOF=1 CONFORMANCE_SEED=$$((seed * 100000 + part * 1000)) $(BIN)/pytest -q -p no:randomly \
			tests/test_webserver.py tests/test_conformance.py tests/test_directives.py tests/test_configurations.py \
			-k "request_gets or very_file or put_together" || exit 1; \
	done

lint: .venv/lint/installed
	$(LINT)/ruff check .
	$(LINT)/ruff format --check .
	$(LINT)/mypy
	$(LINT)/python tests/messages_in_texts.py
	$(LINT)/lint-imports

# hours; goes on where it was stopped
mutants: .venv/installed
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[mutants]'
	$(BIN)/python tests/mutants.py

# where a fuzzer guided by coverage can be installed: it comes for some versions of Python only
fuzz: .venv/installed
	if $(BIN)/pip install --quiet --disable-pip-version-check --only-binary atheris --editable '.[test,fuzz]'; \
	then $(BIN)/python tests/fuzz_readers.py -runs=50000 -max_len=2000 -rss_limit_mb=2048; \
	else echo "no atheris for this Python: left to the property tests"; fi

docs: .venv/installed
	$(BIN)/python docs/make_findings.py
	$(BIN)/python docs/make_reference.py

# what is told of many plans: read what changed, before it is taken
told: .venv/installed
	cd tests && ../$(BIN)/python tell.py

# names, versions, cut uploads, copies and pages of real releases, which .ci/run fetches
recognition: .venv/installed
	$(BIN)/python -m bench.recognition

bench: .venv/installed
	$(BIN)/python -m bench

clean:
	rm -rf .venv build dist .pytest_cache .mypy_cache .ruff_cache .hypothesis
