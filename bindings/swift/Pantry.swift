// Small Pantry for Swift, over the framework that `gomobile bind -target ios` makes of package
// mobile: keys, values that are read without waiting, writes that are awaited, changes as
// streams, errors with a code and a sentence.
//
// NOT COMPILED: this was written from the Objective-C headers that gobind makes. A test checks the names
// that it uses against them; no Swift compiler has read it yet. The layer for Kotlin beside it, of the
// same shape, is run in tests.
//
//     enum Units: String, CaseIterable { case metric, imperial }
//
//     final class Settings: Declared {
//         let reminderHour = Key.int("reminder-hour", 18, in: 0...23)
//         let units = Key.choice("units", Units.metric)
//         let beds = Key.list("beds", of: .text, keep: 20)
//     }
//     let settings = Settings()
//     let pantry = try await Pantry.open(directory, "plotbook", settings)
//     let hour = try pantry[settings.reminderHour]
//     label.text = String(hour.value)
//     try await hour.set(7)                               // returns when it is on disk
//     for await now in hour.changes { label.text = String(now) }

import Combine
import Foundation
import Mobile

/// What went wrong: a code for the program, as package mobile has them, and a sentence for the user.
public struct PantryError: LocalizedError {
    public let code: String
    public let sentence: String
    public var errorDescription: String? { sentence }

    init(_ message: String) {
        let code = MobileCode(message)
        self.code = code.isEmpty ? "failed" : code
        sentence = MobileSentence(message)
    }
}

/// Runs a call of the library. Its errors become PantryErrors.
func calling<T>(_ f: () throws -> T) throws -> T {
    do { return try f() } catch let known as PantryError { throw known } catch { throw PantryError((error as NSError).localizedDescription) }
}

/// Calls a function that returns its error beside a text, which Swift does not throw by itself.
func thrown<T>(_ f: (NSErrorPointer) -> T) throws -> T {
    var error: NSError?
    let x = f(&error)
    if let error { throw error }
    return x
}

/// Empty bytes arrive as nil, which Swift takes for an error without a cause.
func some(_ f: () throws -> Data) throws -> Data {
    do { return try f() } catch where (error as NSError).domain == "Foundation._GenericObjCError" { return Data() }
}

func millis(_ seconds: TimeInterval) -> Int64 { Int64((seconds * 1000).rounded()) }
func seconds(_ millis: Int64) -> TimeInterval { Double(millis) / 1000 }
func moment(_ millis: Int64) -> Date { Date(timeIntervalSince1970: seconds(millis)) }

func strings(_ t: MobileTexts) throws -> [String] {
    try (0..<t.len()).map { i in try thrown { t.at(i, error: $0) } }
}

/// A kind of items in a list.
public struct Kind<E> {
    let name: String
    let add: (MobileItems, E) -> Void
    let at: (MobileItems, Int) throws -> E

    func items(_ all: [E]) -> MobileItems {
        let l = MobileNewItems()!
        all.forEach { add(l, $0) }
        return l
    }

    func list(_ l: MobileItems) throws -> [E] { try (0..<l.len()).map { try at(l, $0) } }
}

extension Kind where E == Int {
    public static var int: Kind<Int> {
        Kind(name: "int", add: { l, x in _ = l.addInt(Int64(x)) }, at: { l, i in var x: Int64 = 0; try l.getInt(i, ret0_: &x); return Int(x) })
    }
}

extension Kind where E == Double {
    public static var double: Kind<Double> {
        Kind(name: "float", add: { l, x in _ = l.addFloat(x) }, at: { l, i in var x = 0.0; try l.getFloat(i, ret0_: &x); return x })
    }
}

extension Kind where E == Bool {
    public static var bool: Kind<Bool> {
        Kind(name: "bool", add: { l, x in _ = l.addBool(x) }, at: { l, i in var x: ObjCBool = false; try l.getBool(i, ret0_: &x); return x.boolValue })
    }
}

extension Kind where E == String {
    public static var text: Kind<String> {
        Kind(name: "text", add: { l, x in _ = l.addText(x) }, at: { l, i in try thrown { l.getText(i, error: $0) } })
    }
}

extension Kind where E == Data {
    public static var bytes: Kind<Data> {
        Kind(name: "bytes", add: { l, x in _ = l.addBytes(x) }, at: { l, i in try some { try l.getBytes(i) } })
    }
}

extension Kind where E == Date {
    /// Moments, to the millisecond.
    public static var time: Kind<Date> {
        Kind(name: "time", add: { l, x in _ = l.addTime(millis(x.timeIntervalSince1970)) }, at: { l, i in var x: Int64 = 0; try l.getTime(i, ret0_: &x); return moment(x) })
    }
}

/// A variable on the device as the library has it.
struct Port<T> {
    let get: () throws -> T
    let set: (T) throws -> Void
    let seed: (T) throws -> Void
    let clear: () throws -> Void
    let watch: (MobileRunnerProtocol, MobileHandlerProtocol) throws -> MobileWatching
    var add: ((T) throws -> T)?
    var list: MobileListVar?
}

/// A declared key as the library has it.
struct Form<T> {
    let own: AnyObject
    let parse: (String) throws -> T
    let format: (T) throws -> String
    let bind: (MobileNamespace) throws -> Port<T>
    let within: (MobileBatch) throws -> Port<T>
    /// Converts what Board.swift reads and writes.
    let into: (T) -> Any
    let out: (Any) throws -> T
}

/// What a property of Declared must be, for the key to be declared.
public protocol Declarable { func declare(_ keys: MobileKeys) }

/// A key: a name with a kind and a default.
public final class Key<T>: Declarable {
    public let name: String
    private let make: (MobileKeys) -> Form<T>
    private var made: Form<T>?

    init(_ name: String, _ make: @escaping (MobileKeys) -> Form<T>) {
        self.name = name
        self.make = make
    }

    public func declare(_ keys: MobileKeys) { made = make(keys) }

    func form() throws -> Form<T> {
        guard let made else { throw PantryError("misuse: the key \(name) is not a property of the Declared that was opened") }
        return made
    }

    /// Reads what a user typed. The error's sentence is for the user.
    public func parse(_ typed: String) throws -> T { try calling { try form().parse(typed) } }

    /// The inverse of parse: what to show in an input.
    public func format(_ x: T) throws -> String { try calling { try form().format(x) } }
}

/// What an app declares: its keys, each a property. A key of another object can't be used with a namespace or
/// a board that was opened with this one.
open class Declared {
    private let keys = MobileNewKeys()!
    private var declared = false

    public init() {}

    /// Declares the keys that are properties, once.
    func library() -> MobileKeys {
        if !declared {
            declared = true
            var type: Mirror? = Mirror(reflecting: self)
            while let current = type {
                for child in current.children { (child.value as? Declarable)?.declare(keys) }
                type = current.superclassMirror
            }
        }
        return keys
    }
}

extension Key where T == Int {
    public static func int(_ name: String, _ start: Int = 0, in range: ClosedRange<Int>? = nil, about: String = "") -> Key<Int> {
        Key(name) { keys in
            let k = keys.intKey(name, def: Int64(start))!
            if let range { _ = k.between(Int64(range.lowerBound), hi: Int64(range.upperBound)) }
            _ = k.about(about)
            func port(_ v: MobileIntVar) -> Port<Int> {
                Port(get: { var x: Int64 = 0; try v.get(&x); return Int(x) }, set: { try v.set(Int64($0)) }, seed: { try v.seed(Int64($0)) }, clear: v.clear, watch: v.watch,
                     add: { n in var sum: Int64 = 0; try v.add(Int64(n), ret0_: &sum); return Int(sum) })
            }
            return Form(own: k, parse: { s in var x: Int64 = 0; try k.parse(s, x: &x); return Int(x) }, format: { x in try thrown { k.format(Int64(x), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { Int64($0) }, out: { Int($0 as! Int64) })
        }
    }
}

extension Key where T == Double {
    public static func double(_ name: String, _ start: Double = 0, in range: ClosedRange<Double>? = nil, about: String = "") -> Key<Double> {
        Key(name) { keys in
            let k = keys.floatKey(name, def: start)!
            if let range { _ = k.between(range.lowerBound, hi: range.upperBound) }
            _ = k.about(about)
            func port(_ v: MobileFloatVar) -> Port<Double> {
                Port(get: { var x = 0.0; try v.get(&x); return x }, set: v.set, seed: v.seed, clear: v.clear, watch: v.watch, add: { n in var sum = 0.0; try v.add(n, ret0_: &sum); return sum })
            }
            return Form(own: k, parse: { s in var x = 0.0; try k.parse(s, x: &x); return x }, format: { x in try thrown { k.format(x, error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { $0 }, out: { $0 as! Double })
        }
    }
}

extension Key where T == Bool {
    public static func bool(_ name: String, _ start: Bool = false, about: String = "") -> Key<Bool> {
        Key(name) { keys in
            let k = keys.boolKey(name, def: start)!
            _ = k.about(about)
            func port(_ v: MobileBoolVar) -> Port<Bool> {
                Port(get: { var x: ObjCBool = false; try v.get(&x); return x.boolValue }, set: v.set, seed: v.seed, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in var x: ObjCBool = false; try k.parse(s, x: &x); return x.boolValue }, format: { x in try thrown { k.format(x, error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { $0 }, out: { $0 as! Bool })
        }
    }
}

private final class TextRule: NSObject, MobileTextRuleProtocol {
    private let f: (String) -> String?
    init(_ f: @escaping (String) -> String?) { self.f = f }
    func check(_ text: String?) -> String { f(text ?? "") ?? "" }
}

private func textForm<T>(_ k: MobileTextKey, _ into: @escaping (T) -> String, _ out: @escaping (String) throws -> T) -> Form<T> {
    func port(_ v: MobileTextVar) -> Port<T> {
        Port(get: { try out(try thrown { v.get($0) }) }, set: { try v.set(into($0)) }, seed: { try v.seed(into($0)) }, clear: v.clear, watch: v.watch)
    }
    return Form(own: k, parse: { s in try out(try thrown { k.parse(s, error: $0) }) }, format: { x in try thrown { k.format(into(x), error: $0) } },
                bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: into, out: { try out($0 as! String) })
}

extension Key where T == String {
    /// check returns a sentence for the user that says what is wrong with a text, or nil. sealed encrypts the
    /// stored text, and needs the seal of Pantry.open.
    public static func text(_ name: String, _ start: String = "", sealed: Bool = false, about: String = "", check: ((String) -> String?)? = nil) -> Key<String> {
        Key(name) { keys in
            let k = keys.textKey(name, def: start)!
            _ = k.about(about)
            if let check { _ = k.check(TextRule(check)) }
            if sealed { _ = k.sealed() }
            return textForm(k, { $0 }, { $0 })
        }
    }
}

extension Key where T: RawRepresentable & CaseIterable, T.RawValue == String {
    /// One of an enum's values, stored as its raw text.
    public static func choice(_ name: String, _ start: T, about: String = "") -> Key<T> {
        Key(name) { keys in
            let options = MobileNewTexts()!
            _ = options.add(start.rawValue)
            for other in T.allCases where other.rawValue != start.rawValue { _ = options.add(other.rawValue) }
            let k = keys.choiceKey(name, options: options)!
            _ = k.about(about)
            return textForm(k, { $0.rawValue }, { T(rawValue: $0) ?? start })
        }
    }
}

extension Key where T == Data {
    public static func bytes(_ name: String) -> Key<Data> {
        Key(name) { keys in
            let k = keys.bytesKey(name, def: nil)!
            func port(_ v: MobileBytesVar) -> Port<Data> {
                Port(get: { try some { try v.get() } }, set: v.set, seed: v.seed, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in try some { try k.parse(s) } }, format: { x in try thrown { k.format(x, error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { $0 }, out: { $0 as! Data })
        }
    }
}

extension Key where T == Date {
    /// Moments, to the millisecond.
    public static func time(_ name: String, _ start: Date = Date(timeIntervalSince1970: 0)) -> Key<Date> {
        Key(name) { keys in
            let k = keys.timeKey(name, defMillis: millis(start.timeIntervalSince1970))!
            func port(_ v: MobileTimeVar) -> Port<Date> {
                Port(get: { var x: Int64 = 0; try v.get(&x); return moment(x) }, set: { try v.set(millis($0.timeIntervalSince1970)) }, seed: { try v.seed(millis($0.timeIntervalSince1970)) }, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in var x: Int64 = 0; try k.parse(s, x: &x); return moment(x) }, format: { x in try thrown { k.format(millis(x.timeIntervalSince1970), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { millis($0.timeIntervalSince1970) }, out: { moment($0 as! Int64) })
        }
    }
}

/// A duration, to the millisecond.
public struct Span: Equatable {
    public var seconds: TimeInterval
    public init(seconds: TimeInterval) { self.seconds = seconds }
}

extension Key where T == Span {
    public static func duration(_ name: String, _ start: Span) -> Key<Span> {
        Key(name) { keys in
            let k = keys.durationKey(name, defMillis: millis(start.seconds))!
            func span(_ ms: Int64) -> Span { Span(seconds: seconds(ms)) }
            func port(_ v: MobileDurationVar) -> Port<Span> {
                Port(get: { var x: Int64 = 0; try v.get(&x); return span(x) }, set: { try v.set(millis($0.seconds)) }, seed: { try v.seed(millis($0.seconds)) }, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in var x: Int64 = 0; try k.parse(s, x: &x); return span(x) }, format: { x in try thrown { k.format(millis(x.seconds), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { millis($0.seconds) }, out: { span($0 as! Int64) })
        }
    }
}

extension Key {
    /// Lists of items of one kind. keep limits a list to its newest items.
    public static func list<E>(_ name: String, of kind: Kind<E>, keep: Int? = nil, about: String = "") -> Key<[E]> where T == [E] {
        Key<[E]>(name) { keys in
            let k = keys.listKey(name, kind: kind.name)!
            _ = k.about(about)
            if let keep { _ = k.keep(keep) }
            func port(_ v: MobileListVar) -> Port<[E]> {
                Port(get: { try kind.list(v.get()) }, set: { try v.set(kind.items($0)) }, seed: { try v.seed(kind.items($0)) }, clear: v.clear, watch: v.watch, list: v)
            }
            return Form(own: k, parse: { s in try kind.list(k.parse(s)) }, format: { x in try thrown { k.format(kind.items(x), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { kind.items($0) }, out: { try kind.list($0 as! MobileItems) })
        }
    }
}

/// Runs tasks of the library on its own thread: a stream takes values from there.
final class Here: NSObject, MobileRunnerProtocol {
    func post(_ t: MobileTask?) { t?.run() }
}

final class Handler: NSObject, MobileHandlerProtocol {
    private let f: () -> Void
    init(_ f: @escaping () -> Void) { self.f = f }
    func changed() { f() }
}

private let writing = DispatchQueue(label: "pantry")

/// Runs a call off the thread that draws. Writes run one after the other.
func written<T>(on queue: DispatchQueue = writing, _ f: @escaping () throws -> T) async throws -> T {
    try await withCheckedThrowingContinuation { (c: CheckedContinuation<T, Error>) in
        queue.async { c.resume(with: Result { try calling(f) }) }
    }
}

/// A stream of what now returns: at once, and after each change. A slow consumer skips values.
func stream<T>(_ watch: @escaping (MobileRunnerProtocol, MobileHandlerProtocol) throws -> MobileWatching, _ now: @escaping () throws -> T) -> AsyncStream<T> {
    AsyncStream(bufferingPolicy: .bufferingNewest(1)) { c in
        let watching = try? watch(Here(), Handler { if let x = try? now() { c.yield(x) } })
        c.onTermination = { _ in watching?.stop() }
    }
}

/// What a SwiftUI view observes: a value that is updated on the main thread.
@MainActor public final class Observed<T>: ObservableObject {
    @Published public private(set) var value: T
    private var task: Task<Void, Never>?

    init(_ first: T, _ changes: AsyncStream<T>) {
        value = first
        task = Task { [weak self] in
            for await now in changes { self?.value = now }
        }
    }

    deinit { task?.cancel() }
}

/// A key's variable on this device. It can be used by several threads at once.
public struct Variable<T> {
    let key: Key<T>
    let port: Port<T>
    let start: T

    /// What is stored, or else the default. It does not wait.
    public var value: T { (try? port.get()) ?? start }

    /// Stores a value: when it returns, it is on disk.
    public func set(_ x: T) async throws { try await written { try port.set(x) } }

    /// Stores a value if nothing is stored.
    public func seed(_ x: T) async throws { try await written { try port.seed(x) } }

    /// Removes what is stored.
    public func clear() async throws { try await written(port.clear) }

    /// The value now, and the newest after each change, by any process.
    public var changes: AsyncStream<T> { stream(port.watch, port.get) }

    /// The same for a SwiftUI view.
    @MainActor public func observed() -> Observed<T> { Observed(value, changes) }
}

extension Variable where T: Numeric {
    /// Adds a number, so that concurrent additions all count, and returns the sum.
    public func add(_ n: T) async throws -> T { try await written { try port.add!(n) } }
}

extension Variable {
    /// Appends items at the end. With unique, items that the list has are left out.
    public func append<E>(_ some: E..., unique: Bool = false) async throws where T == [E] {
        try await written { try port.list!.append(try key.form().into(some) as? MobileItems, unique: unique) }
    }

    /// Removes the first item that equals each of some. With all, every equal item.
    public func remove<E>(_ some: E..., all: Bool = false) async throws where T == [E] {
        try await written { try port.list!.remove(try key.form().into(some) as? MobileItems, all: all) }
    }
}

/// A commit that is being made.
public final class Commit: NSObject, MobileChangeProtocol {
    private let f: (Commit) throws -> Void
    var batch: MobileBatch?

    init(_ f: @escaping (Commit) throws -> Void) { self.f = f }

    public func apply(_ b: MobileBatch?) throws {
        batch = b
        defer { batch = nil }
        try f(self)
    }

    func current() throws -> MobileBatch {
        guard let batch else { throw PantryError("misuse: the commit is over") }
        return batch
    }

    public func get<T>(_ key: Key<T>) throws -> T { try calling { try key.form().within(current()).get() } }
    public func set<T>(_ key: Key<T>, _ x: T) throws { try calling { try key.form().within(current()).set(x) } }
}

/// An open namespace: the entries of one app, in one file.
public final class Pantry {
    let ns: MobileNamespace

    private init(_ ns: MobileNamespace) { self.ns = ns }

    /// Opens a namespace in a directory of the app, off the thread of the caller. seal is a secret of 32 bytes
    /// from the keychain.
    public static func open(_ directory: String, _ name: String, _ declared: Declared, seal: Data? = nil) async throws -> Pantry {
        try await written {
            let options = MobileNewOptions()!
            if let seal { _ = options.seal(seal) }
            return Pantry(try thrown { MobileOpen(directory, name, declared.library(), options, $0)! })
        }
    }

    public subscript<T>(_ key: Key<T>) -> Variable<T> {
        get throws {
            try calling {
                let port = try key.form().bind(ns)
                return Variable(key: key, port: port, start: try port.get())
            }
        }
    }

    /// Makes all changes, or none: what f throws is thrown, and nothing is stored.
    public func commit(_ f: @escaping (Commit) throws -> Void) async throws { try await written { try self.ns.commit(Commit(f)) } }

    /// Removes every entry, declared or not, and erases them from the file.
    public func reset() async throws { try await written { try self.ns.reset() } }

    public func close() throws { try calling { try ns.close() } }
}
